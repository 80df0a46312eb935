"""Sign-in, the account, the demo clock."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from openmeadow.web.models.common import Model


class SignIn(Model):
    name: str = Field(max_length=200)
    password: str = Field(max_length=1000)
    code: str = Field("", max_length=12)


class Me(Model):
    name: str
    role: Literal["analyst", "writer", "observer"]
    csrf: str
    second_factor: bool
    workspace: str
    time_zone: str
    demo: bool
    world_url: str
    email: str


class SecondFactor(Model):
    secret: str
    address: str


class SecondFactorProof(Model):
    secret: str
    code: str


class Deed(Model):
    id: int
    undoable: bool
    undone_at: int | None
    at: int
    who: str
    act: str
    what: str
    people: int


class Deeds(Model):
    deeds: list[Deed]


class Token(Model):
    token: str


class ClockMove(Model):
    by: int | None = Field(None, description="seconds; none for the next event")


class Moving(Model):
    now: int
    target: int | None = None
    begun_from: int | None = None
