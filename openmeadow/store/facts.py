"""What rules and the gate ask of the store: lists, labels, fields, consent, suppression; masks over people."""

from __future__ import annotations

import difflib
import sqlite3
from dataclasses import dataclass

import numpy as np

from openmeadow.core.addresses.providers import provider_names
from openmeadow.core.columns import I8, I32, I64, NEVER, Mask
from openmeadow.core.consent.gate import CONSENT_STATES, Standing, ask
from openmeadow.core.errors import Missing
from openmeadow.core.rules.sentence import parse
from openmeadow.core.rules.tree import InSegment, Rule, walk
from openmeadow.store.columns import _table

DAY = 86_400


def nearest(kind: str, name: str, known: list[str]) -> Missing:
    close = difflib.get_close_matches(name, known, 1, 0.3) or known[:1]
    tail = f"; the nearest is “{close[0]}”." if close else "; there are none yet."
    return Missing(f"There is no {kind} “{name}”{tail}")


@dataclass
class StoreFacts:
    """``Facts`` over one read connection, for the people of ``ids`` at ``now``; ``past`` when now is not the present."""

    db: sqlite3.Connection
    ids: I64
    erased: Mask
    provider: np.ndarray
    door: np.ndarray
    now: int
    some: bool = False

    def _mask(self, sql: str, arguments: tuple[object, ...]) -> Mask:
        (hit,) = _table(self.db, sql, arguments, "q")
        mask = np.zeros(len(self.ids), bool)
        place = np.searchsorted(self.ids, hit)
        inside = place < len(self.ids)
        mask[place[inside]] = True
        return mask

    def _id(self, table: str, kind: str, name: str) -> int:
        row = self.db.execute(f"SELECT id FROM {table} WHERE name = ? COLLATE NOCASE", (name,)).fetchone()
        if row is None:
            raise nearest(kind, name, [r["name"] for r in self.db.execute(f"SELECT name FROM {table}")])
        return int(row["id"])

    def only(self, index: I64) -> StoreFacts:
        """The same for some people; ids stay ascending only if ``index`` is, so answers follow its order."""
        order = np.argsort(self.ids[index], kind="stable")
        if not bool((order == np.arange(len(order))).all()):
            raise ValueError("people must be given by ascending id")
        return StoreFacts(
            self.db, self.ids[index], self.erased[index], self.provider[index], self.door[index], self.now, some=True
        )

    def _of(self, subscriber: I64) -> tuple[I64, Mask]:
        """Where store ids stand among these people, and whether they do."""
        place = np.minimum(np.searchsorted(self.ids, subscriber), max(len(self.ids) - 1, 0))
        return place, np.asarray(self.ids[place] == subscriber) if len(self.ids) else np.zeros(len(subscriber), bool)

    def _among(self) -> str:
        return f" AND subscriber IN ({','.join(map(str, self.ids.tolist()))})" if self.some else ""

    def in_list(self, name: str) -> Mask:
        return self._mask(
            "SELECT subscriber FROM list_members WHERE list = ? AND at <= ?", (self._id("lists", "list", name), self.now)
        )

    def has_label(self, name: str) -> Mask:
        return self._mask(
            "SELECT subscriber FROM subscriber_labels WHERE label = ?", (self._id("labels", "label", name),)
        )

    def field_is(self, name: str, value: str) -> Mask:
        known = [r["name"] for r in self.db.execute("SELECT name FROM field_names")]
        real = next((k for k in known if k.lower() == name.lower()), None)
        if real is None:
            raise nearest("field", name, known)
        path = '$."' + real.replace('"', '\\"') + '"'
        return self._mask(
            "SELECT id FROM subscribers WHERE fields <> '{}' AND json_extract(fields, ?) = ? COLLATE NOCASE",
            (path, value),
        )

    def message_ids(self, name: str) -> list[int]:
        rows = self.db.execute("SELECT id FROM messages WHERE name = ? COLLATE NOCASE", (name,)).fetchall()
        if not rows:
            raise nearest("message", name, [r["name"] for r in self.db.execute("SELECT name FROM messages")])
        return [int(r["id"]) for r in rows]

    def segment(self, name: str) -> Rule:
        row = self.db.execute("SELECT name, rule FROM segments WHERE name = ?", (name,)).fetchone()
        if row is None:
            raise nearest("segment", name, [r["name"] for r in self.db.execute("SELECT name FROM segments")])
        return parse(row["rule"])

    def circle(self, rule: Rule, path: tuple[str, ...]) -> tuple[str, ...] | None:
        """The path by which a rule comes back to a segment it stands in, or None."""
        for part in walk(rule):
            if isinstance(part, InSegment):
                low = [p.lower() for p in path]
                if part.name.lower() in low:
                    return (*path, part.name)
                deeper = self.circle(self.segment(part.name), (*path, part.name))
                if deeper:
                    return deeper
        return None

    def came_by(self, door: str) -> Mask:
        return np.asarray(self.door == self._id("doors", "door", door))

    def provider_is(self, name: str) -> Mask:
        names = provider_names()
        low = [n.lower() for n in names]
        if name.lower() not in low:
            raise nearest("provider", name, names)
        return np.asarray(self.provider == low.index(name.lower()))

    def consent(self, purpose: str) -> I8:
        """Each person's latest word about the purpose, by email, up to now."""
        id = self._id("purposes", "purpose", purpose)
        subscriber, state = _table(
            self.db,
            "SELECT subscriber, state FROM consent_entries WHERE purpose = ? AND channel = 'email' "
            f"AND at <= ?{self._among()} ORDER BY at, state = 1, state = 2",
            (id, self.now),
            "qb",
        )
        out = np.zeros(len(self.ids), np.int8)
        place, here = self._of(subscriber)
        out[place[here]] = state[here]
        return out

    def consent_is(self, purpose: str, state: str) -> Mask:
        return np.asarray(self.consent(purpose) == CONSENT_STATES.index(state))

    def suppressed(self) -> I8:
        out = np.zeros(len(self.ids), np.int8)
        subscriber, reason = _table(
            self.db,
            f"SELECT subscriber, reason FROM suppressions WHERE at <= ?{self._among()} ORDER BY reason DESC",
            (self.now,),
            "qb",
        )
        place, here = self._of(subscriber)
        out[place[here]] = reason[here]
        return out

    def sent_since(self, seconds: int) -> I32:
        """How many passes each person was sent in the last so many seconds."""
        (subscriber,) = _table(
            self.db,
            "SELECT subscriber FROM events WHERE kind = 1 AND at > ? AND at <= ?" + self._among(),
            (self.now - seconds, self.now),
            "q",
        )
        place, here = self._of(subscriber)
        return np.bincount(place[here], minlength=len(self.ids)).astype(np.int32)

    def standing(self, purpose: str, *, limits: bool) -> Standing:
        nobody = np.zeros(len(self.ids), bool)
        none = np.zeros(len(self.ids), np.int32)
        return Standing(
            self.erased,
            self.suppressed(),
            self.consent(purpose),
            nobody,
            nobody,
            self.sent_since(DAY) if limits else none,
            self.sent_since(7 * DAY) if limits else none,
        )

    def permitted(self, purpose: str) -> Mask:
        return ask(self.standing(purpose, limits=False), "campaign").permitted


__all__ = ["NEVER", "StoreFacts", "nearest"]
