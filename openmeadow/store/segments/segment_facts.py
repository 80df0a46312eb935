"""What rules ask of the store: lists, labels, fields, consent, suppression, sequences; masks over people."""

from __future__ import annotations

import difflib
import json
import sqlite3
from calendar import isleap
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from typing import Self
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.addresses.verdicts import VERDICTS
from openmeadow.core.arrays import I8, I32, I64, NEVER, Mask
from openmeadow.core.columns import Trouble, Troubles
from openmeadow.core.consent.eligibility import CONSENT_STATES, GIVEN, SUPPRESSION_REASONS
from openmeadow.core.errors import Missing, RuleMistake
from openmeadow.core.ids import PurposeId, SequenceId
from openmeadow.core.rules.conditions import Rule, walk
from openmeadow.core.rules.parser import DEEPEST, parse
from openmeadow.core.rules.people_clauses import InSegment
from openmeadow.core.sequences.definition import read
from openmeadow.store import settings
from openmeadow.store.bulk import read_columns
from openmeadow.store.health.providers import names as provider_names
from openmeadow.store.rows import SqlValue
from openmeadow.store.segments import segments
from openmeadow.store.segments.facts_cache import Kept
from openmeadow.store.subscribers import consent as consent_table
from openmeadow.store.subscribers import fields
from openmeadow.store.subscribers.subscribers import facts_version

NOT_CHECKED = "not checked"
_VALUE = "trim(coalesce(CAST(json_extract(fields, ?) AS TEXT), ''))"
IS_NUMBER = "(ltrim(v, '+-') NOT GLOB '*[^0-9.]*' AND v GLOB '*[0-9]*' AND v NOT GLOB '*.*.*')"
IS_DATE = "v GLOB '[0-9][0-9][0-9][0-9]-[0-9][0-9]-[0-9][0-9]*'"
# SQL of what rules ask of a field; v is its value as text, and never empty
FIELD_TESTS = {
    "is": "v = ? COLLATE NOCASE",
    "is not": "v <> ? COLLATE NOCASE",
    "contains": "v LIKE ? ESCAPE '\\'",
    "at least": f"{IS_NUMBER} AND CAST(v AS REAL) >= ?",
    "at most": f"{IS_NUMBER} AND CAST(v AS REAL) <= ?",
    "more than": f"{IS_NUMBER} AND CAST(v AS REAL) > ?",
    "fewer than": f"{IS_NUMBER} AND CAST(v AS REAL) < ?",
    "before": f"{IS_DATE} AND substr(v, 1, 10) < ?",
    "after": f"{IS_DATE} AND substr(v, 1, 10) > ?",
    "is one of": "v COLLATE NOCASE IN ({})",
}


def _like(text: str) -> str:
    """A LIKE pattern that matches a text anywhere."""
    return "%" + text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"


def nearest(kind: str, name: str, known: list[str]) -> Missing:
    """The error that a name is not known, with the one most like it."""
    close = difflib.get_close_matches(name[:200], known, 1, 0.3) or known[:1]
    tail = f"; the nearest is “{close[0]}”." if close else "; there are none yet."
    return Missing(f"There is no {kind} “{name}”{tail}")


@dataclass
class RuleFacts:
    """``Facts`` over one read connection, for the people of ``ids`` at ``now``; ``some`` when not for everybody.

    ``kept`` remembers answers between views; ``told`` gives the troubles known.
    """

    db: sqlite3.Connection
    ids: I64
    erased: Mask
    provider: np.ndarray
    source: np.ndarray
    now: int
    kept: Kept | None = None
    told: Callable[[], Troubles] | None = None
    some: bool = False

    def remembered(
        self, key: tuple[object, ...], timed: str, compute: Callable[[], np.ndarray], each: bool = True
    ) -> np.ndarray:
        """The answer as it was worked out before, if nothing has changed since. ``timed`` is the SQL of the next
        moment at which it changes by itself ("" when it never does); ``each`` unless it is of people together."""
        if self.kept is None or self.some:
            return compute()
        self.kept.at(facts_version(self.db))
        found = self.kept.get(key, self.now, len(self.ids))
        if found is None or (each and len(found) != len(self.ids)):
            row = self.db.execute(timed, {"now": self.now}).fetchone() if timed else None
            until = int(row[0]) if row and row[0] is not None else 2**62
            found = compute()
            self.kept.put(key, self.now, until, len(self.ids), found)
        return found

    def _mask(self, sql: str, arguments: tuple[SqlValue, ...], timed: str = "") -> Mask:
        def compute() -> Mask:
            few = ",".join(map(str, self.ids.tolist()))
            asked = f"WITH hit (person) AS ({sql}) SELECT person FROM hit WHERE person IN ({few})" if self.some else sql
            (hit,) = read_columns(self.db, asked, arguments, "q")
            mask = np.zeros(len(self.ids), bool)
            place, here = self.place_of(hit)
            mask[place[here]] = True
            return mask

        key = (sql, *(a for a in arguments if a != self.now))
        return self.remembered(key, timed, compute)

    def _id(self, table: str, kind: str, name: str) -> int:
        row = self.db.execute(f"SELECT id FROM {table} WHERE name = ? COLLATE NOCASE", (name,)).fetchone()
        if row is None:
            raise nearest(kind, name, [r["name"] for r in self.db.execute(f"SELECT name FROM {table}")])
        return int(row["id"])

    def only(self, index: I64) -> Self:
        """The same for some people; ids stay ascending only if ``index`` is, so answers follow its order."""
        order = np.argsort(self.ids[index], kind="stable")
        if not bool((order == np.arange(len(order))).all()):
            raise ValueError("people must be given by ascending id")
        return replace(
            self,
            ids=self.ids[index],
            erased=self.erased[index],
            provider=self.provider[index],
            source=self.source[index],
            some=True,
        )

    def place_of(self, subscriber: I64) -> tuple[I64, Mask]:
        """Where store ids stand among these people, and whether they do."""
        place = np.minimum(np.searchsorted(self.ids, subscriber), max(len(self.ids) - 1, 0))
        return place, np.asarray(self.ids[place] == subscriber) if len(self.ids) else np.zeros(len(subscriber), bool)

    def among(self) -> str:
        """What restricts a query to the people asked about, where they are few."""
        return f" AND subscriber IN ({','.join(map(str, self.ids.tolist()))})" if self.some else ""

    def in_list(self, name: str) -> Mask:
        """Who is in a list."""
        return self._mask(
            "SELECT subscriber FROM list_members WHERE list = ? AND at <= ?",
            (self._id("lists", "list", name), self.now),
            "SELECT min(at) FROM list_members WHERE at > :now",
        )

    def has_label(self, name: str) -> Mask:
        """Who has a label."""
        return self._mask(
            "SELECT subscriber FROM subscriber_labels WHERE label = ?", (self._id("labels", "label", name),)
        )

    def _field(self, name: str) -> str:
        """The JSON path of a field, by its name."""
        known = fields.names(self.db)
        real: str | None = next((k for k in known if k.lower() == name.lower()), None)
        if real is None:
            raise nearest("field", name, known)
        return fields.path(real)

    def field(self, name: str, test: str, *values: str | float) -> Mask:
        """Whose field passes a test: one of FIELD_TESTS with its values."""
        path = self._field(name)
        if test == "falls within":
            return self._falls_within(path, float(values[0]))
        if test == "is empty":
            return ~self._mask(f"SELECT id FROM subscribers WHERE fields <> '{{}}' AND {_VALUE} <> ''", (path,))
        where = FIELD_TESTS[test]
        if test == "is one of":
            where = where.format(", ".join("?" * len(values)))
        elif test == "contains":
            values = (_like(str(values[0])),)
        return self._mask(
            f"SELECT id FROM (SELECT id, {_VALUE} AS v FROM subscribers WHERE fields <> '{{}}') WHERE v <> '' AND {where}",
            (path, *values),
        )

    def _falls_within(self, path: str, days: float) -> Mask:
        """Whose date has its anniversary today or in the next so many days, in the workspace's zone; 29 February falls on
        the 28th in other years."""
        wanted = self.coming_days(days)
        marks = ", ".join("?" * len(wanted))
        return self._mask(
            f"SELECT id FROM (SELECT id, {_VALUE} AS v FROM subscribers WHERE fields <> '{{}}') "
            f"WHERE {IS_DATE} AND substr(v, 6, 5) IN ({marks})",
            (path, *sorted(wanted)),
        )

    def coming_days(self, days: float) -> set[str]:
        """MM-DD of today and the next so many days in the workspace's zone; 29 February with the 28th in other years."""
        zone = ZoneInfo(str(settings.setting(self.db, "time_zone")))
        first = datetime.fromtimestamp(self.now, zone).date()
        wanted: set[str] = set()
        for n in range(min(int(days), 366) + 1):
            day = first + timedelta(days=n)
            wanted.add(day.strftime("%m-%d"))
            if (day.month, day.day) == (2, 28) and not isleap(day.year):
                wanted.add("02-29")
        return wanted

    def date_is(self, name: str, day: date, yearly: bool, zones: Sequence[str] = ()) -> Mask:
        """Whose field holds a date (YYYY-MM-DD …) that is the day, or its anniversary; 29 February falls on the 28th
        in other years. With ``zones`` only of people in these time zones."""
        path = self._field(name)
        days = [day.strftime("%m-%d")]
        if yearly and days == ["02-28"] and not isleap(day.year):
            days.append("02-29")
        asked, wanted = ("6, 5", days) if yearly else ("1, 10", [day.isoformat()])
        where = f" AND time_zone IN ({','.join('?' * len(zones))})" if zones else ""
        return self._mask(
            "SELECT id FROM subscribers WHERE fields <> '{}' AND "
            f"substr(json_extract(fields, ?), {asked}) IN ({','.join('?' * len(wanted))}){where}",
            (path, *wanted, *zones),
        )

    def message_ids(self, name: str) -> list[int]:
        """The messages of a name; Missing where there is none."""
        rows = self.db.execute("SELECT id FROM messages WHERE name = ? COLLATE NOCASE", (name,)).fetchall()
        if not rows:
            raise nearest("message", name, [r["name"] for r in self.db.execute("SELECT name FROM messages")])
        return [int(r["id"]) for r in rows]

    def segment(self, name: str) -> Rule:
        """The rule of a segment; Missing where there is none."""
        row = self.db.execute("SELECT name, rule FROM segments WHERE name = ?", (name,)).fetchone()
        if row is None:
            raise nearest("segment", name, [r["name"] for r in self.db.execute("SELECT name FROM segments")])
        return parse(row["rule"])

    def snapshot(self, name: str, day: str) -> Mask:
        """Who was in a snapshot of a segment on a day."""
        return self._mask("SELECT subscriber FROM snapshot_people WHERE snapshot = ?", (self.snapshot_id(name, day),))

    def snapshot_id(self, name: str, day: str) -> int:
        """The snapshot of a segment on a day; Missing where there is none."""
        self.segment(name)
        segment = segments.named(self.db, name)
        rows = segments.snapshots(self.db, segment.id) if segment else []
        if not rows:
            raise Missing(f"The segment “{name}” has no snapshot yet.")
        found = next((r.id for r in rows if r.day == day), None)
        if found is None:
            days = ", ".join(r.day for r in rows[:5])
            raise Missing(f"The segment “{name}” has no snapshot of {day}. Its snapshots are of {days}.")
        return found

    def reach(self, rule: Rule, path: tuple[str, ...]) -> set[Rule]:
        """All clauses of a rule and of the segments it names, each segment read once. RuleMistake where it comes back to
        a segment it stands in."""
        out: set[Rule] = set()
        self._reach(rule, path, set(), out)
        return out

    def _reach(self, rule: Rule, path: tuple[str, ...], read_before: set[str], out: set[Rule]) -> None:
        if len(path) > DEEPEST:
            raise RuleMistake(f"Segments may name each other {DEEPEST} deep; these go deeper.", rule.place)
        for part in walk(rule):
            if isinstance(part, InSegment):
                low = part.name.lower()
                if low in (p.lower() for p in path):
                    raise RuleMistake(f"This rule would go in a circle: {' → '.join((*path, part.name))}.", 0)
                if low not in read_before:
                    read_before.add(low)
                    self._reach(self.segment(part.name), (*path, part.name), read_before, out)
            elif not part.parts_below():
                out.add(part)

    def source_is(self, name: str) -> Mask:
        """Who came by a source."""
        return np.asarray(self.source == self._id("sources", "source", name))

    def provider_is(self, name: str) -> Mask:
        """Whose mailbox is with a provider."""
        names = provider_names(self.db)
        low = [n.lower() for n in names]
        if not name or name.lower() not in low:
            raise nearest("provider", name, [n for n in names if n])
        return np.asarray(self.provider == low.index(name.lower()))

    def _latest(self, sql: str, arguments: tuple[SqlValue, ...], timed: str) -> I8:
        """A small number a person from (subscriber, number, order) rows, the last one in order standing."""

        def compute() -> I8:
            subscriber, value, order = read_columns(self.db, sql, arguments, "qbq")
            by_order = np.argsort(order, kind="stable")
            out = np.zeros(len(self.ids), np.int8)
            place, here = self.place_of(subscriber[by_order])
            out[place[here]] = value[by_order][here]
            return out

        return self.remembered((sql, *(a for a in arguments if a != self.now)), timed, compute)

    def consent(self, purpose: str, channel: str = "email") -> I8:
        """Each person's latest word about the purpose, by a channel, up to now."""
        return self._latest(
            f"SELECT subscriber, state, {consent_table.ORDER} FROM consent_entries "
            f"WHERE NOT void AND purpose = ? AND channel = ? AND at <= ?{self.among()}",
            (self._id("purposes", "purpose", purpose), channel, self.now),
            "SELECT min(at) FROM consent_entries WHERE at > :now",
        )

    def consent_is(self, purpose: str, channel: str, state: str) -> Mask:
        """Whose consent to a purpose by a channel is in a state."""
        return np.asarray(self.consent(purpose, channel) == CONSENT_STATES.index(state))

    def suppressed(self) -> I8:
        """Why each is suppressed: a reason's number, 0 for not."""
        return self._latest(
            f"SELECT subscriber, reason, -reason FROM suppressions WHERE at <= ?{self.among()}",
            (self.now,),
            "SELECT min(at) FROM suppressions WHERE at > :now",
        )

    def consent_given_at(self, purpose: str) -> I64:
        """Since when each person's consent by email stands as given; NEVER for the others."""
        stands = self.consent(purpose) == GIVEN
        subscriber, at = read_columns(
            self.db,
            "SELECT subscriber, max(at) FROM consent_entries WHERE NOT void AND purpose = ? AND channel = 'email' "
            f"AND state = 1 AND at <= ?{self.among()} GROUP BY subscriber",
            (self._id("purposes", "purpose", purpose), self.now),
            "qq",
        )
        out = np.full(len(self.ids), NEVER, np.int64)
        place, here = self.place_of(subscriber)
        out[place[here]] = at[here]
        out[~stands] = NEVER
        return out

    def consent_from(self, purpose: str, source: str) -> Mask:
        """Whose latest record of consent by email about a purpose came from a stated source."""
        row_id = self._id("purposes", "purpose", purpose)
        sources = consent_table.sources(self.db, PurposeId(row_id))
        if source.lower() not in (s.lower() for s in sources):
            raise nearest("source of consent", source, sources)
        hit = self._latest(
            "SELECT subscriber, coalesce(source = ? COLLATE NOCASE, 0), "
            f"{consent_table.ORDER} FROM consent_entries WHERE NOT void AND purpose = ? AND channel = 'email' "
            f"AND at <= ?{self.among()}",
            (source, row_id, self.now),
            "SELECT min(at) FROM consent_entries WHERE at > :now",
        )
        return np.asarray(hit > 0)

    def suppressed_mask(self, reason: str | None = None) -> Mask:
        """Who is suppressed, for any reason or for one."""
        if reason is None:
            return np.asarray(self.suppressed() > 0)
        known = [r for r in SUPPRESSION_REASONS if r == reason.lower()]
        if not known:
            raise nearest("reason of suppression", reason, list(SUPPRESSION_REASONS))
        return self._mask(
            "SELECT subscriber FROM suppressions WHERE reason = ? AND at <= ?",
            (1 + SUPPRESSION_REASONS.index(known[0]), self.now),
            "SELECT min(at) FROM suppressions WHERE at > :now",
        )

    def _text_is(self, column: str, kind: str, value: str) -> Mask:
        sql = f"SELECT id FROM subscribers WHERE {column} = ? COLLATE NOCASE"
        mask = self._mask(sql, (value,))
        if not mask.any():
            known = self.db.execute(
                f"SELECT DISTINCT {column} AS v FROM subscribers WHERE {column} IS NOT NULL LIMIT 500"
            )
            raise nearest(kind, value, [r["v"] for r in known])
        return mask

    def language_is(self, name: str) -> Mask:
        """Who prefers a language."""
        return self._text_is("language", "language", name)

    def country_is(self, name: str) -> Mask:
        """Who lives in a country."""
        return self._text_is("country", "country", name)

    def verdicts(self) -> I8:
        """1 + the place in VERDICTS; 0 where the address was never checked."""
        return self._latest(f"SELECT subscriber, verdict + 1, 0 FROM address_verdicts WHERE true{self.among()}", (), "")

    def address_is(self, states: tuple[str, ...]) -> Mask:
        """Whose address has one of some verdicts."""
        known = self.verdicts()
        return np.isin(known, [0 if v == NOT_CHECKED else 1 + VERDICTS.index(v) for v in states])

    def in_any_sequence(self) -> Mask:
        """Who is active in any sequence."""
        return self._mask(
            "SELECT DISTINCT subscriber FROM enrolments WHERE entered_at <= ? AND coalesce(left_at, 1 << 62) > ?"
            + self.among(),
            (self.now, self.now),
            "SELECT min(m) FROM (SELECT min(entered_at) AS m FROM enrolments WHERE entered_at > :now "
            "UNION ALL SELECT min(left_at) FROM enrolments WHERE left_at > :now)",
        )

    def in_sequence(self, name: str, step: str | None = None) -> Mask:
        """Who is active in a sequence, or at a step of it now (at which step they were at a past time is not kept)."""
        row_id = self._id("sequences", "sequence", name)
        at = "" if step is None else f" AND step = {self._step(SequenceId(row_id), step)}"
        return self._mask(
            "SELECT subscriber FROM enrolments WHERE sequence = ? AND entered_at <= ? AND coalesce(left_at, 1 << 62) > ?"
            + at,
            (row_id, self.now, self.now),
            "SELECT min(m) FROM (SELECT min(entered_at) AS m FROM enrolments WHERE entered_at > :now "
            "UNION ALL SELECT min(left_at) FROM enrolments WHERE left_at > :now)",
        )

    def step_key(self, sequence: str, step: str) -> int:
        """The key of a step of a sequence by what it is called."""
        return self._step(SequenceId(self._id("sequences", "sequence", sequence)), step)

    def missing(self, kind: str, name: str) -> Missing:
        """The error that a name is not known."""
        return nearest(kind, name, [])

    def _step(self, sequence: SequenceId, name: str) -> int:
        """The key of a step by what it is called."""
        row = self.db.execute("SELECT definition FROM sequences WHERE id = ?", (sequence,)).fetchone()
        titles = read(json.loads(row["definition"])).titles()
        found = next((k for k, t in titles.items() if t.lower() == name.lower()), None)
        if found is None:
            raise nearest("step", name, list(titles.values()))
        return found

    def finished_sequence(self, name: str) -> I64:
        """When each person last came to the end of the sequence; NEVER for the others."""
        subscriber, at = read_columns(
            self.db,
            "SELECT subscriber, left_at FROM enrolments WHERE sequence = ? AND finished AND left_at <= ?"
            f"{self.among()} ORDER BY left_at",
            (self._id("sequences", "sequence", name), self.now),
            "qq",
        )
        out = np.full(len(self.ids), NEVER, np.int64)
        place, here = self.place_of(subscriber)
        out[place[here]] = at[here]
        return out

    def soft_failures(self) -> tuple[I32, I64]:
        """Row numbers of people and moments of their soft bounces up to now."""
        if self.told is None:
            return np.zeros(0, np.int32), np.zeros(0, np.int64)
        told = self.told()
        soft = (told.what == Trouble.SOFT) & (told.at <= self.now)
        return told.person[soft], told.at[soft]
