"""Domains and from-addresses."""

from __future__ import annotations

from typing import Literal

from openmeadow.web.models.common import Model


class Record(Model):
    record: str
    state: Literal["holds", "mend", "broken", "unknown"]
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


class Domain(Model):
    id: int
    name: str
    state: Literal["holds", "mend", "broken", "unknown"]
    selector: str
    checked_at: int | None
    records: list[Record]
    addresses: list[FromAddress]


class Domains(Model):
    domains: list[Domain]
