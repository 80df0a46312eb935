"""Sending domains and from addresses, as the store gives them."""

from __future__ import annotations

from dataclasses import dataclass

from pydantic import JsonValue

from openmeadow.core.states import DomainState, KeyState
from openmeadow.store.rows import Record


@dataclass(frozen=True, slots=True)
class Domain(Record):
    """``records`` and ``spf`` as the latest check found them."""

    id: int
    name: str
    token: str
    selector: str | None
    private_key: str | None
    public_key: str | None
    state: DomainState
    records: list[dict[str, str]]
    checked_at: int | None
    spf: dict[str, JsonValue]
    proof_sent_at: int | None
    proof_back_at: int | None
    proof_click_at: int | None
    removed_at: int | None


@dataclass(frozen=True, slots=True)
class RecordChange(Record):
    id: int
    domain: int
    at: int
    record: str
    before: str
    after: str
    found: str


@dataclass(frozen=True, slots=True)
class DkimKey(Record):
    id: int
    domain: int
    selector: str
    private_key: str
    public_key: str
    state: KeyState
    made_at: int
    retired_at: int | None
    beside: bool


@dataclass(frozen=True, slots=True)
class FromAddress(Record):
    id: int
    domain: int
    address: str
    asked_at: int | None
    confirmed_at: int | None
    removed_at: int | None


@dataclass(frozen=True, slots=True)
class DomainAddress(FromAddress):
    domain_name: str
    domain_state: DomainState


@dataclass(frozen=True, slots=True)
class SigningAddress(DomainAddress):
    """A from address with the key of its domain."""

    selector: str | None
    private_key: str | None
    public_key: str | None
