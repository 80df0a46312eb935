"""Import subscribers: read, check, merge; nothing of a refused row is written."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TypeVar
from zoneinfo import ZoneInfo

from openmeadow.core.consent.eligibility import CONSENT_STATES, GIVEN, NONE, SUPPRESSION_REASONS
from openmeadow.core.errors import MeadowError
from openmeadow.core.ids import PurposeId, SubscriberId
from openmeadow.core.imports.dates import STYLES
from openmeadow.core.imports.report import Refusal, Report
from openmeadow.core.imports.subscribers import BadCell, Reading, Record, match_columns
from openmeadow.services.subscribers import erasure, file_reader, import_looks
from openmeadow.services.subscribers.import_events import take_aside
from openmeadow.services.subscribers.import_trial import Met, judge_addresses, permitted
from openmeadow.store import settings, undo_log
from openmeadow.store.bulk import Many
from openmeadow.store.connection import Store, roomily
from openmeadow.store.health import providers
from openmeadow.store.subscribers import fields
from openmeadow.store.subscribers import subscribers as table
from openmeadow.store.subscribers.consent import Claim
from openmeadow.store.subscribers.consent import add as add_consents
from openmeadow.store.subscribers.records import NewSubscriber
from openmeadow.store.turns import Turns

Progress = Callable[[int, int], None]
T = TypeVar("T")


@roomily
def run(
    store: Store,
    path: Path,
    now: int,
    who: str,
    *,
    corrections: dict[str, str] | None = None,
    list_name: str | None = None,
    consent: dict[str, str] | None = None,
    source: str | None = None,
    dry_run: bool = False,
    progress: Progress | None = None,
    refused_to: Path | None = None,
    encoding: str = "utf-8",
    dates: dict[str, str] | None = None,
    suppressed: str = "",
    wording: str | None = None,
    values: dict[str, dict[str, str]] | None = None,
) -> Report:
    """Take a subscribers CSV. The same file twice changes nothing; refused rows never stop the rest.

    ``dates`` maps a heading to one of ``STYLES`` where its dates are not RFC 3339, ``values`` to what its values stand for.
    ``wording`` is what was agreed to where the file does not say, ``suppressed`` a reason that holds for everybody in it.
    Undone by the action in the report; a dry run is the same, rolled back.
    """
    head = file_reader.header(path, encoding)
    _check_options(dates or {}, suppressed, consent or {})
    zone = ZoneInfo(str(settings.setting(store.read(), "time_zone")))
    targets = match_columns(head, corrections or {}, rows=import_looks.first_rows(path, encoding))
    if "email" not in targets:
        raise MeadowError("No column has the addresses: name it email, or use --map column=email.")
    styles = _by_target(head, targets, dates or {})
    meaning = {
        t: {k.strip().lower(): v for k, v in of.items()} for t, of in _by_target(head, targets, values or {}).items()
    }
    types = fields.types(store.read())
    how = Reading(targets, zone, source, consent or {}, list_name, wording, meaning, suppressed, styles, types)
    report, total = Report(dry_run=dry_run), path.stat().st_size
    refused = file_reader.RefusedFile(refused_to, head) if refused_to else None
    met, turns, erased = Met(), Turns(store), erasure.Erased(store.read())
    action = None if dry_run else _begun(store, path, head, targets, now, who)
    with file_reader.no_cycles(), file_reader.said_how_far(report):
        for rows, bad, reached in file_reader.csv_chunks(path, encoding):
            report.rows += len(rows) + len(bad)
            records = _records(how, rows, bad, erased)
            for r in bad:
                report.refuse(r)
                if refused:
                    refused.write(r)
            if action is None:
                _try(turns, records, how, now, report, met)
            else:
                met.add(records)
                _write(turns, records, how, now, report, action)
            if progress:
                progress(reached, total)
    if refused:
        refused.close()
    _finish(store, how, report, met, now, action)
    return report


def _by_target(head: list[str], targets: list[str], of: dict[str, T]) -> dict[str, T]:
    """What is said of a heading, of the column that it is."""
    return {t: of[h] for h, t in zip(head, targets, strict=True) if h in of}


def _begun(store: Store, path: Path, head: list[str], targets: list[str], now: int, who: str) -> int:
    """The action by which the import can be undone; how its columns were matched is remembered."""
    with store.atomic() as db:
        table.remember_matches(db, import_looks.signature(head), targets, now)
        return undo_log.begin(db, now, who, "imported subscribers", path.name, 0, "subscribers")


def _try(turns: Turns, records: list[Record], how: Reading, now: int, report: Report, met: Met) -> None:
    """One chunk written and rolled back, some records at a time; whom an earlier part has met is told by what it said."""
    for part in turns.over(records):
        fresh, other = met.fresh(part)
        with turns.part(part, keep=False) as db:
            action = undo_log.begin(db, now, "", "imported subscribers", "", 0, "subscribers")
            taken = _Writer(db, how, now, report, action).write(fresh) + other
            ids = sorted(table.ids_of(db, [r.key for r in fresh]).values())
            for purpose, n in permitted(db, ids, now).items():
                report.permitted[purpose] = report.permitted.get(purpose, 0) + n
        report.taken += taken
        report.repeated += len(part) - taken


def _write(turns: Turns, records: list[Record], how: Reading, now: int, report: Report, action: int) -> None:
    """One chunk of the file, some records at a time; the report counts what stands."""

    def put(db: sqlite3.Connection, part: Sequence[Record]) -> int:
        with undo_log.remembering(db, action):
            return _Writer(db, how, now, report, action).write(list(part))

    def stands(rows: int, written: int) -> None:
        report.taken += written
        report.repeated += rows - written

    turns.each(records, put, stands)


def _finish(store: Store, how: Reading, report: Report, met: Met, now: int, action: int | None) -> None:
    """The last words of an import, and the events that waited for its people."""
    report.people = met.people
    report.permitted = permitted(store.read(), [], now) | report.permitted
    judge_addresses(store.read(), met, report)
    for name, n in sorted((+how.unfit).items()):
        report.note(f"Not {how.types[name]}s: {n:,} value{'s' if n > 1 else ''} of “{name}”, kept as written.")
    if met.twice:
        report.note(
            f"{met.twice:,} rows repeat an address and were merged: later rows override names and fields, the "
            "earliest joined date is kept, lists, labels and consents are added."
        )
    if action is not None:
        take_aside(store)
        with store.atomic() as db:
            undo_log.counted(db, action, report.taken)
        report.action = action
        report.ids = sorted(table.ids_of(store.read(), met.keys).values())
        report.permitted = permitted(store.read(), report.ids, now)


def _records(how: Reading, rows: Many[tuple[int, list[str]]], bad: list[Refusal], erased: erasure.Erased) -> list[Record]:
    """The rows that can be imported; what cannot is added to ``bad`` with its reason."""
    records: list[Record] = []
    for line, cells in rows:
        try:
            record = how.record(cells)
            if not record.email.isascii() or not "".join(cells).isascii():
                "".join(cells).encode()
            if erased and record.key in erased:
                bad.append(Refusal(line, "email", "this address was erased on request and is not imported", cells))
                continue
            records.append(record)
        except BadCell as e:
            bad.append(Refusal(line, e.column, str(e), cells))
        except UnicodeEncodeError:
            at = next(i for i, c in enumerate(cells) if not _decodes(c))
            bad.append(Refusal(line, how.targets[at], "the cell cannot be decoded as UTF-8", cells))
    return records


def _check_options(dates: dict[str, str], suppressed: str, consent: dict[str, str]) -> None:
    """MeadowError where an option is none that an import knows."""
    for heading, style in dates.items():
        if style not in STYLES:
            raise MeadowError(f"“{style}” is not a date format for “{heading}”; use one of {', '.join(STYLES)}.")
    if suppressed and suppressed not in SUPPRESSION_REASONS:
        raise MeadowError(f"“{suppressed}” is not a reason; use one of {', '.join(SUPPRESSION_REASONS)}.")
    for state in consent.values():
        if state not in CONSENT_STATES:
            raise MeadowError(f"“{state}” is not a consent state; use given, withdrawn, pending or none.")


def _decodes(text: str) -> bool:
    try:
        text.encode()
    except UnicodeEncodeError:
        return False
    return True


class _Writer:
    """Writes one chunk of records in the caller's transaction."""

    def __init__(self, db: sqlite3.Connection, how: Reading, now: int, report: Report, action: int) -> None:
        self.db, self.how, self.now, self.report, self.action = db, how, now, report, action
        self._ids: dict[tuple[str, str], int] = {}
        self._providers: dict[str, int] = {}

    def _named(self, kind: str, name: str) -> int:
        pair = (kind, name.lower())
        if pair not in self._ids:
            self._ids[pair], made = table.named(self.db, kind, name)
            if made and kind in ("lists", "purposes"):
                self.report.note(f"Created {kind[:-1]} “{name}”.")
        return self._ids[pair]

    def _provider_of(self, domain: str) -> int:
        """Of a domain that is known already; the worker asks about the others."""
        if len(self._providers) > 100_000:
            self._providers.clear()
        if domain not in self._providers:
            self._providers[domain] = providers.of_domain(self.db, domain)
        return self._providers[domain]

    def _row(self, r: Record, source: str | None) -> NewSubscriber:
        """What is written of one subscriber."""
        opened_by = source or (r.lists[0] if r.lists else None)
        return NewSubscriber(
            email=r.email,
            key=r.key,
            name=r.name,
            joined_at=r.joined_at,
            now=self.now,
            time_zone=r.time_zone,
            language=r.language,
            country=r.country,
            provider=self._provider_of(r.key.rpartition("@")[2]),
            fields=table.fields_json(r.fields),
            source=self._named("sources", opened_by) if opened_by else None,
            action=self.action,
        )

    def _claims(self, records: list[Record], ids: dict[str, SubscriberId]) -> list[Claim]:
        """The consents that the rows state; those without a source as none, with a note."""
        now, action = self.now, self.action
        consents = []
        for r in records:
            for c in r.consents:
                state = c.state
                if state == GIVEN and not c.source:
                    state = NONE
                    self.report.note(
                        f"Consent to “{c.purpose}” has no source in some rows and was imported there as none. Name the "
                        "source with a column or --source."
                    )
                if c.at is not None and c.at > now:
                    self.report.note("Consent dates in the future were set to now.")
                consents.append(
                    Claim(
                        SubscriberId(ids[r.key]),
                        PurposeId(self._named("purposes", c.purpose)),
                        state,
                        min(c.at or r.joined_at or now, now),
                        c.channel,
                        "import",
                        c.source,
                        c.wording,
                        action=action,
                    )
                )
        return consents

    def write(self, records: list[Record]) -> int:
        how, now, action = self.how, self.now, self.action
        source = how.list_name or how.source
        rows = [self._row(r, source) for r in records]
        changed = table.upsert(self.db, rows)
        ids = table.ids_of(self.db, list({r.key for r in records}))
        table.add_members(
            self.db,
            [(self._named("lists", name), ids[r.key], r.joined_at or now, action) for r in records for name in r.lists],
        )
        table.add_labels(
            self.db, [(self._named("labels", name), ids[r.key], action) for r in records for name in r.labels]
        )
        table.add_suppressions(
            self.db,
            [
                (ids[r.key], r.suppressed, r.suppressed_at or r.joined_at or now, how.source or "import", action)
                for r in records
                if r.suppressed
            ],
        )
        fields.add(self.db, {f for r in records for f in r.fields})
        add_consents(self.db, self._claims(records, ids))
        return changed
