"""The raw source of messages: of tests as they went, of sent ones made anew."""

from __future__ import annotations

from dataclasses import dataclass

from openmeadow.core.errors import Missing
from openmeadow.core.message.headers import ExplainedHeader, explained
from openmeadow.desk import writer
from openmeadow.desk.desk import Desk
from openmeadow.store import writing
from openmeadow.wire.tokens import Tokens


@dataclass(frozen=True)
class Source:
    """``is_made_anew``: from its version, its person as they are now, and the moment it was sent."""

    raw: bytes
    headers: tuple[ExplainedHeader, ...]
    is_made_anew: bool

    @property
    def text(self) -> str:
        return self.raw.decode("utf-8", "replace").replace("\r\n", "\n")


def of_test(desk: Desk, id: int) -> Source:
    """A test copy as it went over the wire."""
    row = writing.test_copy(desk.store.read(), id)
    if row is None:
        raise Missing("This test is not kept any more.")
    return Source(row["raw"], explained(row["raw"]), False)


def of_delivery(desk: Desk, id: int) -> Source:
    """A message that was sent, made anew."""
    raw = writer.source_of(desk, Tokens(desk.folder), id)
    return Source(raw, explained(raw), True)
