"""Fields of the workspace's own."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from openmeadow.services.models.common import Model

FieldTypeName = Literal["text", "number", "date"]


class OwnField(Model):
    name: str
    type: FieldTypeName
    people: int
    examples: list[str]
    used_by: list[str]


class OwnFields(Model):
    fields: list[OwnField]


class FieldIn(Model):
    name: str = Field(max_length=200)
    type: FieldTypeName = "text"


class FieldTrialIn(FieldIn):
    """``style`` is the writing of its dates; without one the likeliest."""

    name: str = Field(max_length=64_000)
    style: str = ""


class FieldTrial(Model):
    """What a type would make of a field's values."""

    values: int
    unfit: int
    rewritten: int
    examples: list[str] = Field(description="values that are not of the type")
    style: str = Field(description="the writing its dates are read in")
    styles: dict[str, str] = Field(description="the writings there are, with an example of each")


class FieldRename(Model):
    name: str = Field(max_length=64_000)
    to: str = Field(max_length=200)


class FieldName(Model):
    name: str = Field(max_length=64_000)
