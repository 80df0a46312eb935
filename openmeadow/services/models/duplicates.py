"""One person under two addresses."""

from __future__ import annotations

from pydantic import Field

from openmeadow.services.models.common import Model


class DuplicatePerson(Model):
    id: int
    email: str
    name: str


class Duplicate(Model):
    """Two subscribers that are most likely one person; ``keep`` is the more engaged one."""

    keep: DuplicatePerson
    other: DuplicatePerson
    why: str


class Duplicates(Model):
    pairs: list[Duplicate]


class MergePeopleIn(Model):
    keep: int
    email: str = Field(max_length=320, description="the address of the other one")


class MergePlan(Model):
    keep: DuplicatePerson
    other: DuplicatePerson
    takes: list[str] = Field(description="what the one who stays takes over, a line each")
