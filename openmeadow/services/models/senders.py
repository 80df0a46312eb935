"""Domains and from addresses."""

from __future__ import annotations

from pydantic import JsonValue

from openmeadow.core.states import DomainState, KeyState
from openmeadow.services.models.common import Model


class Record(Model):
    record: str
    state: DomainState
    expected: str
    found: str
    meaning: str
    publish: str


class FromAddress(Model):
    id: int
    address: str
    confirmed_at: int | None
    domain: int
    usable: bool
    looks_like: str


class BesideKey(Model):
    selector: str
    state: KeyState
    made_at: int
    beside: bool


class RecordChange(Model):
    at: int
    record: str
    before: str
    after: str
    found: str


class Domain(Model):
    id: int
    name: str
    state: DomainState
    selector: str
    key_kind: str
    checked_at: int | None
    records: list[Record]
    keys: list[BesideKey]
    changes: list[RecordChange]
    spf: dict[str, JsonValue]
    looks_like: str
    addresses: list[FromAddress]


class Domains(Model):
    domains: list[Domain]
