"""Names that are taken get a number: "Welcome", "Welcome (2)", "Welcome (3)"."""

from __future__ import annotations

from collections.abc import Callable


def free_name(name: str, is_taken: Callable[[str], object]) -> str:
    """The name itself, or with the first number that makes it one nobody has."""
    fresh, n = name, 1
    while is_taken(fresh):
        n += 1
        fresh = f"{name} ({n})"
    return fresh
