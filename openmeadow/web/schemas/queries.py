"""Query parameters, a model for each operation that takes some."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from openmeadow.services.models.common import Model

LARGEST_ID = 2**63 - 1
FARTHEST = 100_000_000  # rows that can be skipped
LONGEST_RULE = 16_000  # in an address; longer ones are saved as a segment first

Id = Annotated[int, Field(ge=0, le=LARGEST_ID)]
Offset = Annotated[int, Field(ge=0, le=FARTHEST)]
Text = Annotated[str, Field(max_length=300)]


class PageQuery(Model):
    offset: Offset = 0


class SubjectQuery(Model):
    subject: str = Field("", max_length=1_000)


class FoundQuery(PageQuery):
    text: Text = ""


class TableQuery(Model):
    rule: str = Field("", max_length=LONGEST_RULE)
    text: Text = ""
    band: Text = Field("", description="bands, by comma")
    sort: Text = Field("-score", description="a column; with a minus before it, falling")


class RowsQuery(TableQuery):
    offset: Offset = 0
    limit: int = Field(60, ge=1, le=200)


class RangeQuery(TableQuery):
    first: Offset = 0
    last: Offset = 0


class MapQuery(Model):
    purpose: Text = ""


class CellsQuery(Model):
    columns: str = Field(max_length=40, pattern=r"^\d{1,6},\d{1,6}$", description="first and last, by comma")
    rows: str = Field(max_length=40, pattern=r"^\d{1,6},\d{1,6}$", description="first and last, by comma")


class ReplayQuery(Model):
    months: int = Field(12, ge=1, le=60)
    rough: bool = False


class SunsetQuery(Model):
    rough: bool = False


class PreviewQuery(Model):
    subscriber: Id = 0
    email: Text = ""
    version: int = Field(0, ge=0, le=100)


class ReasonQuery(Model):
    reason: str = Field("", max_length=1_000)


class CapacityQuery(Model):
    an_hour: float = Field(0.0, ge=0, le=1e6, allow_inf_nan=False)
    one_in: float = Field(1.0, ge=0, le=1e4, allow_inf_nan=False)
    what: Literal["clicks", "replies", "bookings"] = "clicks"


class CompareQuery(Model):
    compare: str = Field("", alias="with", max_length=200, pattern=r"^[0-9,]*$", description="ids, by comma")


class KeyQuery(Model):
    kind: Literal["rsa", "ed25519"] = "rsa"
    beside: bool = False


class FindQuery(Model):
    text: Text = ""


class SenderQuery(Model):
    sender: Id = 0


class WalkQuery(Model):
    supposed: str = Field("never", max_length=20, description="never, always, repeats")
    email: Text = ""


class SuppressionQuery(Model):
    offset: Offset = 0
    reason: Text = ""


class EmailQuery(Model):
    email: Text = ""


class FieldQuery(Model):
    field: Text = ""


class JustFile(Model):
    """A form with a file alone."""


class ImportFile(Model):
    kind: Literal["", "subscribers", "events"] = ""


class AddressFile(Model):
    ask_hosts: bool = False
