"""Mailbox providers."""

from __future__ import annotations

from pydantic import Field

from openmeadow.services.models.common import Model


class ProviderDomain(Model):
    domain: str
    people: int


class MailboxProvider(Model):
    id: int
    name: str
    colour: str
    daily_cap: int | None
    limits: dict[str, float]
    people: int
    hosts: list[str]
    domains: list[ProviderDomain]


class Providers(Model):
    providers: list[MailboxProvider]
    guardrails: dict[str, float]
    asked: int  # domains of people here whose mail servers are known
    to_ask: int


class ProviderIn(Model):
    name: str = Field(max_length=80)
    colour: str = Field(default="", max_length=7)
    daily_cap: int | None = Field(default=None, ge=1, lt=2**31)
    limits: dict[str, float] = Field(default_factory=dict)


class MergeIn(Model):
    into: int = Field(ge=0, lt=2**31)


class SplitIn(Model):
    domain: str = Field(max_length=255)
    name: str = Field(max_length=80)
