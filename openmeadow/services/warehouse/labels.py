"""A segment that was worked out elsewhere comes back as a label: a file of people, by address or by number."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import asdict, dataclass
from itertools import islice
from pathlib import Path

from openmeadow.core.addresses.syntax import address_key
from openmeadow.core.errors import CannotOpen, Refused
from openmeadow.core.imports.headings import meant, plain
from openmeadow.services.subscribers import bulk_actions
from openmeadow.services.subscribers.selection import Choice
from openmeadow.services.warehouse.engine import needed
from openmeadow.services.workspace import Workspace
from openmeadow.store import parquet, settings
from openmeadow.store.subscribers import subscribers

BLOCK, SHOWN = 5_000, 10


@dataclass
class Labelled:
    """What came of a file: its rows, the people it names, those who had not the label before, and what it names that is
    not here (the first of them)."""

    label: str
    rows: int
    people: int
    added: int
    unknown: int
    unknown_shown: list[str]

    def json(self) -> dict[str, object]:
        """As the command prints it."""
        return asdict(self)


def _column(head: list[str], file: Path) -> tuple[int, bool]:
    """The column that names people, and whether it does so by number."""
    low = [h.strip().lower() for h in head]
    if "person" in low:
        return low.index("person"), True
    found = next((i for i, h in enumerate(head) if meant(h) == "email" or plain(h) == "email"), None)
    if found is None:
        raise Refused(f"{file.name} has no column “email” or “person”; its columns are {', '.join(head[:10]) or 'none'}.")
    return found, False


def _cells(file: Path) -> Iterator[list[str]]:
    """The head of a file and its rows."""
    if file.suffix.lower() == ".parquet":
        yield from parquet.rows_of(needed("duckdb"), file)
        return
    try:
        with file.open(encoding="utf-8-sig", newline="") as f:
            first = f.readline()
            f.seek(0)
            yield from csv.reader(f, delimiter=max(",;\t", key=first.count))
    except (OSError, UnicodeDecodeError, csv.Error) as e:
        raise CannotOpen(f"{file} cannot be read: {e}.") from None


def run(workspace: Workspace, file: Path, label: str, source: str, who: str) -> Labelled:
    """Give the label to everybody whom the file names and who is here; one act, which can be undone. ``source`` says in
    the activity log where it was worked out."""
    label = label.strip()
    if not label:
        raise Refused("The label needs a name.")
    rows = _cells(file)
    at, by_number = _column(next(rows, []), file)
    done, ids = Labelled(label, 0, 0, 0, 0, []), set[int]()
    db = workspace.store.read()
    while block := [r[at].strip() for r in islice(rows, BLOCK) if len(r) > at and r[at].strip()]:
        done.rows += len(block)
        if by_number:
            asked = {n: n for n in block}
            wanted = [int(n) for n in block if n.isdecimal() and len(n) < 19]
            here = {str(n) for n in subscribers.known_ids(db, wanted)}
            ids |= {int(n) for n in here}
        else:
            asked = {}
            for text in block:
                with suppress(ValueError, UnicodeError):
                    asked[address_key(text)] = text
            found = subscribers.ids_of(db, list(asked))
            here = set(found)
            ids |= {int(i) for i in found.values()}
        missing = [text for key, text in asked.items() if key not in here]
        done.unknown += len(missing)
        done.unknown_shown += missing[: SHOWN - len(done.unknown_shown)]
    done.people = len(ids)
    if ids:
        _, done.added = bulk_actions.do(workspace, "label", label, Choice(ids=tuple(sorted(ids))), who)
    with workspace.store.atomic() as w:
        settings.log(w, workspace.now(), who, "imported a label", f"{label}, from {source or file.name}", done.people)
    return done
