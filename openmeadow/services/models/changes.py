"""What is changed of something that is there: only what is given; the rest stays."""

from __future__ import annotations

from typing import TypedDict

from pydantic import JsonValue

from openmeadow.core.ids import PurposeId


class CampaignChanges(TypedDict, total=False):
    """``blocks`` None: it is written as HTML from now on; ``plan`` are the parts of the plan that change."""

    name: str
    purpose: PurposeId | None
    from_address: int | None
    from_name: str
    reply_to: str
    subject: str
    preview: str
    html: str
    plain: str
    blocks: list[dict[str, JsonValue]] | None
    segments_in: list[int]
    segments_out: list[int]
    lists_in: list[str]
    lists_out: list[str]
    with_sequences: bool
    track_opens: bool
    track_clicks: bool
    plan: dict[str, object]


class SequenceChanges(TypedDict, total=False):
    """``definition`` in its JSON form."""

    name: str
    purpose: PurposeId | None
    from_address: int | None
    from_name: str
    definition: dict[str, object]


class PurposeChanges(TypedDict, total=False):
    name: str
    basis: str
    transactional: bool
    retired: bool
    text: str


class PersonChanges(TypedDict, total=False):
    """``fields`` and ``labels`` are given whole: what is not among them is taken off."""

    name: str
    time_zone: str
    language: str
    country: str
    fields: dict[str, str]
    labels: list[str]
