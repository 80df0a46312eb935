"""Bring in subscribers: read, check, merge; nothing of a refused row is written."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from zoneinfo import ZoneInfo

from openmeadow.core.consent.gate import CONSENT_STATES, GIVEN, NONE, SUPPRESSION_REASONS
from openmeadow.core.errors import MeadowError
from openmeadow.core.intake.moments import STYLES, styles_of
from openmeadow.core.intake.report import Refusal, Report
from openmeadow.core.intake.subscribers import BadCell, Reading, Record, is_date, match_columns
from openmeadow.desk import erasure
from openmeadow.desk.bring_in import reading
from openmeadow.desk.bring_in.events import take_aside
from openmeadow.store import deeds, providers, workspace
from openmeadow.store import subscribers as table
from openmeadow.store.consent import Claim
from openmeadow.store.consent import add as add_consents
from openmeadow.store.database import Store, roomily

Progress = Callable[[int, int], None]
SAMPLE = 8
LOOKED_AT = 2_000  # rows whose dates are tried


@dataclass(frozen=True)
class Looked:
    """What a file seems to be: the meaning of each column, its first rows, its encoding and how its dates are written.

    ``dates`` maps a heading to the writings that fit all of the dates looked at, the likeliest first.
    """

    header: list[str]
    targets: list[str]
    sample: list[list[str]]
    encoding: str
    separator: str
    dates: dict[str, list[str]]
    remembered: bool


def _signature(header: list[str]) -> str:
    return "\x1f".join(h.strip().lower() for h in header)


def look(store: Store, path: Path, encoding: str = "", corrections: dict[str, str] | None = None) -> Looked:
    """A file from its looks, with the matches that were chosen the last time for the same headings."""
    zone = ZoneInfo(str(workspace.setting(store.read(), "time_zone")))
    encoding = encoding or reading.encoding_of(path)
    header = reading.header(path, encoding)
    found = table.column_matches(store.read(), _signature(header))
    if corrections is not None:
        targets = match_columns(header, corrections)
    elif found is not None and found.count("email") == 1:
        targets = found
    else:
        targets = match_columns(header, {}, guess=True)
    rows, _, _ = next(reading.csv_chunks(path, encoding), ([], [], 0))
    dates = {}
    for i, target in enumerate(targets):
        if is_date(target):
            dates[header[i]] = styles_of(
                [c for _, cells in rows[:LOOKED_AT] if (c := "".join(cells[i : i + 1]).strip())], zone
            )
    separator = reading.separator_of(path, encoding)
    sample = [cells for _, cells in rows[:SAMPLE]]
    return Looked(header, targets, sample, encoding, separator, dates, found is not None)


@roomily
def bring_in(
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
) -> Report:
    """Take a subscribers CSV. The same file twice changes nothing; refused rows never stop the rest.

    ``dates`` maps a heading to one of ``STYLES`` where its dates are not RFC 3339. Columns whose heading is not
    corrected are what their names say.
    ``suppressed`` is a reason that holds for everybody in the file. Undone by the deed in the report.
    """
    head = reading.header(path, encoding)
    for heading, style in (dates or {}).items():
        if style not in STYLES:
            raise MeadowError(f"“{style}” is no way to write the dates of “{heading}”; use one of {', '.join(STYLES)}.")
    if suppressed and suppressed not in SUPPRESSION_REASONS:
        raise MeadowError(f"“{suppressed}” is not a reason; use one of {', '.join(SUPPRESSION_REASONS)}.")
    for state in (consent or {}).values():
        if state not in CONSENT_STATES:
            raise MeadowError(f"“{state}” is not a consent; use given, withdrawn, awaiting or none.")
    zone = ZoneInfo(str(workspace.setting(store.read(), "time_zone")))
    targets = match_columns(head, corrections or {})
    styles = {t: dates[h] for h, t in zip(head, targets, strict=True) if dates and h in dates}
    how = Reading(targets, zone, source, consent or {}, list_name, suppressed, styles)
    report, total = Report(dry_run=dry_run), path.stat().st_size
    refused = reading.RefusedFile(refused_to, head) if refused_to else None
    seen_in_file: set[str] = set()
    repeated_before: set[str] = set()
    twice = 0
    erased = erasure.Erased(store.read())
    deed: int | None = None
    if not dry_run:
        with store.atomic() as db:
            deed = deeds.begin(db, now, who, "brought in subscribers", path.name, 0, "subscribers")
            table.remember_matches(db, _signature(head), targets, now)
    with reading.no_cycles(), reading.said_how_far(report):
        for rows, bad, reached in reading.csv_chunks(path, encoding):
            records: list[Record] = []
            report.rows += len(rows) + len(bad)
            for line, cells in rows:
                try:
                    record = how.record(cells)
                    if not record.email.isascii() or not "".join(cells).isascii():
                        "".join(cells).encode()
                    if erased and record.key in erased:
                        bad.append(Refusal(line, "email", "this address was erased on request and stays so", cells))
                        continue
                    records.append(record)
                except BadCell as e:
                    bad.append(Refusal(line, e.column, str(e), cells))
                except UnicodeEncodeError:
                    at = next(i for i, c in enumerate(cells) if not _decodes(c))
                    bad.append(Refusal(line, how.targets[at], "the cell cannot be decoded as UTF-8", cells))
            for r in bad:
                report.refuse(r)
                if refused:
                    refused.write(r)
            if dry_run:
                known = table.ids_of(store.read(), [r.key for r in records])
                fresh = {r.key for r in records} - known.keys() - seen_in_file
                seen_in_file |= fresh if len(seen_in_file) < 2_000_000 else set()
                report.taken += len(fresh)
                report.repeated += len(records) - len(fresh)
                twice += len(records) - len({r.key for r in records} - repeated_before)
                repeated_before |= {r.key for r in records} if len(repeated_before) < 2_000_000 else set()
            else:
                assert deed is not None
                with store.atomic() as db, deeds.remembering(db, deed):
                    changed = _Writer(db, how, now, report, deed).write(records)
                report.taken += changed
                report.repeated += len(records) - changed
            if progress:
                progress(reached, total)
    if refused:
        refused.close()
    if twice:
        report.note(
            f"{twice:,} rows repeat an address of this file. They are one person: a later row's name and fields stand, "
            "the earliest joined date is kept, lists, labels and consents are added up."
        )
    if deed is not None:
        take_aside(store)
        with store.atomic() as db:
            deeds.counted(db, deed, report.taken)
        report.deed = deed
    return report


def _decodes(text: str) -> bool:
    try:
        text.encode()
    except UnicodeEncodeError:
        return False
    return True


class _Writer:
    """Writes one chunk of records in the caller's transaction."""

    def __init__(self, db: sqlite3.Connection, how: Reading, now: int, report: Report, deed: int) -> None:
        self.db, self.how, self.now, self.report, self.deed = db, how, now, report, deed
        self._ids: dict[tuple[str, str], int] = {}
        self._providers: dict[str, int] = {}

    def _named(self, kind: str, name: str) -> int:
        pair = (kind, name.lower())
        if pair not in self._ids:
            self._ids[pair], made = table.named(self.db, kind, name)
            if made and kind in ("lists", "purposes"):
                self.report.note(f"The {kind[:-1]} “{name}” was not there and has been made.")
        return self._ids[pair]

    def _provider_of(self, domain: str) -> int:
        """Of a domain that is known already; the worker asks about the others."""
        if len(self._providers) > 100_000:
            self._providers.clear()
        if domain not in self._providers:
            self._providers[domain] = providers.of_domain(self.db, domain)
        return self._providers[domain]

    def write(self, records: list[Record]) -> int:
        how, now, deed = self.how, self.now, self.deed
        door = how.list_name or how.source
        rows = []
        for r in records:
            opened_by = door or (r.lists[0] if r.lists else None)
            rows.append(
                {
                    "email": r.email,
                    "key": r.key,
                    "name": r.name,
                    "joined_at": r.joined_at,
                    "now": now,
                    "time_zone": r.time_zone,
                    "language": r.language,
                    "country": r.country,
                    "provider": self._provider_of(r.key.rpartition("@")[2]),
                    "fields": table.fields_json(r.fields),
                    "door": self._named("doors", opened_by) if opened_by else None,
                    "deed": deed,
                }
            )
        changed = table.upsert(self.db, rows)
        ids = table.ids_of(self.db, list({r.key for r in records}))
        table.add_members(
            self.db,
            [(self._named("lists", name), ids[r.key], r.joined_at or now, deed) for r in records for name in r.lists],
        )
        table.add_labels(self.db, [(self._named("labels", name), ids[r.key], deed) for r in records for name in r.labels])
        table.add_suppressions(
            self.db,
            [
                (ids[r.key], r.suppressed, r.suppressed_at or r.joined_at or now, how.source or "import", deed)
                for r in records
                if r.suppressed
            ],
        )
        table.add_field_names(self.db, {f for r in records for f in r.fields})
        consents = []
        for r in records:
            for c in r.consents:
                state = c.state
                if state == GIVEN and not c.source:
                    state = NONE
                    self.report.note(
                        f"Consent to “{c.purpose}” is claimed without a source in some rows; there it "
                        "was brought in as none. Name the source with a column or --source."
                    )
                if c.at is not None and c.at > now:
                    self.report.note("Consent dated later than now counts from now; nobody agrees ahead of time.")
                consents.append(
                    Claim(
                        ids[r.key],
                        self._named("purposes", c.purpose),
                        state,
                        min(c.at or r.joined_at or now, now),
                        c.channel,
                        "import",
                        c.source,
                        c.wording,
                        deed=deed,
                    )
                )
        add_consents(self.db, consents)
        return changed
