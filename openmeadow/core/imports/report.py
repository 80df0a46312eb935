"""What an import says of itself."""

from __future__ import annotations

from dataclasses import dataclass, field

SHOWN = 200


@dataclass
class Refusal:
    """A row that cannot be taken: ``line`` counts from 1 with the header as line 1."""

    line: int
    column: str
    reason: str
    cells: list[str] = field(default_factory=list)


@dataclass
class Report:
    """Counts and reasons; ``refused`` shows the first ``SHOWN``, ``refused_count`` all."""

    rows: int = 0
    taken: int = 0
    repeated: int = 0
    aside: int = 0
    refused_count: int = 0
    refused: list[Refusal] = field(default_factory=list)
    aside_shown: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    dry_run: bool = False
    action: int | None = None  # by which it can be undone
    people: int = 0  # different addresses
    ids: list[int] = field(default_factory=list)  # of the people of the file, once they are in
    permitted: dict[str, int] = field(default_factory=dict)  # by purpose, of the people of the file
    typos: int = 0
    disposable: int = 0

    def note(self, sentence: str) -> None:
        """Add a sentence, once."""
        if sentence not in self.notes and len(self.notes) < SHOWN:
            self.notes.append(sentence)

    def refuse(self, refusal: Refusal) -> None:
        """Count a refused row and keep the first of them."""
        self.refused_count += 1
        if len(self.refused) < SHOWN:
            self.refused.append(refusal)

    @property
    def clean(self) -> bool:
        """Whether nothing was refused or kept aside."""
        return not self.refused_count and not self.aside

    def json(self) -> dict[str, object]:
        """As the command prints it."""
        return {
            "rows": self.rows,
            "taken": self.taken,
            "repeated": self.repeated,
            "aside": self.aside,
            "aside_addresses": self.aside_shown,
            "refused": self.refused_count,
            "refused_rows": [{"line": r.line, "column": r.column, "reason": r.reason} for r in self.refused],
            "notes": self.notes,
            "dry_run": self.dry_run,
            "action": self.action,
            "people": self.people,
            "permitted": self.permitted,
            "typos": self.typos,
            "disposable": self.disposable,
        }
