"""What a job is given, kept with it until the worker takes it; what is not known any more is ignored."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict


class _Arguments(BaseModel):
    model_config = ConfigDict(extra="ignore", frozen=True)
    name: str = ""


class JobChoice(BaseModel):
    """People of a job, as ``selection.Choice``."""

    model_config = ConfigDict(extra="ignore", frozen=True)
    rule: str = ""
    text: str = ""
    bands: tuple[str, ...] = ()
    ids: tuple[int, ...] | None = None
    without: tuple[int, ...] = ()
    also: tuple[str, ...] = ()


class ImportJob(_Arguments):
    """A file of subscribers or of events; ``path`` is where it was uploaded to."""

    path: str
    corrections: dict[str, str] | None = None
    list_name: str = ""
    source: str = ""
    consent: dict[str, str] | None = None
    wording: str = ""
    values: dict[str, dict[str, str]] | None = None
    encoding: str = ""
    dates: dict[str, str] | None = None
    suppressed: str = ""
    dry_run: bool = False
    check: bool = False


class ActionJob(_Arguments):
    act: str
    argument: str
    choice: JobChoice


class ExportJob(_Arguments):
    choice: JobChoice
    columns: list[str]
    form: str


class AddressesJob(_Arguments):
    """``done`` are the people of the choice that were checked before it was left."""

    choice: JobChoice
    ask_hosts: bool
    done: int = 0


class AddressFileJob(_Arguments):
    path: str
    ask_hosts: bool
    done: int = 0


class JobName(_Arguments):
    """What every job says of itself."""

    dry_run: bool = False
