"""The raw source of messages: of tests as they went, of sent ones made anew."""

from __future__ import annotations

from dataclasses import dataclass

from openmeadow.core.errors import Missing
from openmeadow.core.ids import DeliveryId
from openmeadow.core.message.headers import ExplainedHeader, explained
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.campaigns import renderer
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns import content


@dataclass(frozen=True)
class Source:
    """``is_made_anew``: from its version, its person as they are now, and the moment it was sent."""

    raw: bytes
    headers: tuple[ExplainedHeader, ...]
    is_made_anew: bool

    @property
    def text(self) -> str:
        """The text that a reader sees."""
        return self.raw.decode("utf-8", "replace").replace("\r\n", "\n")


def of_test(workspace: Workspace, row_id: int) -> Source:
    """A test copy as it went over the wire."""
    row = content.test_copy(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This test is no longer stored.")
    return Source(row.raw, explained(row.raw), False)


def of_delivery(workspace: Workspace, row_id: DeliveryId) -> Source:
    """A message that was sent, made anew."""
    raw = renderer.source_of(workspace, Tokens(workspace.folder), row_id)
    return Source(raw, explained(raw), True)
