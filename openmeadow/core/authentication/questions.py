"""Questions to the DNS and their three kinds of answer. Core asks; somebody else goes and looks."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass
from typing import TypeVar


@dataclass(frozen=True)
class Question:
    """``kind`` is a record type: TXT, A, AAAA, MX, PTR."""

    name: str
    kind: str


@dataclass(frozen=True)
class Found:
    """``status``: found, none (the name or type does not exist) or unknown (could not find out)."""

    status: str
    values: tuple[str, ...] = ()


T = TypeVar("T")
Asking = Generator[Question, Found, T]
