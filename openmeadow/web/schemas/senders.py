"""Domains and from addresses."""

from __future__ import annotations

from typing import Any, Literal

from openmeadow.web.schemas.common import Model


class Record(Model):
    record: str
    state: Literal["pass", "warning", "fail", "unknown"]
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
    state: Literal["next", "old"]
    made_at: int


class RecordChange(Model):
    at: int
    record: str
    before: str
    after: str
    found: str


class Domain(Model):
    id: int
    name: str
    state: Literal["pass", "warning", "fail", "unknown"]
    selector: str
    checked_at: int | None
    records: list[Record]
    keys: list[BesideKey]
    changes: list[RecordChange]
    spf: dict[str, Any]
    looks_like: str
    addresses: list[FromAddress]


class Domains(Model):
    domains: list[Domain]
