"""The packages that this part needs and the rest does not."""

from __future__ import annotations

from importlib import import_module
from types import ModuleType

from openmeadow.core.errors import CannotOpen


def needed(name: str) -> ModuleType:
    """A library of requirements/columns.lock; a sentence where it is not installed."""
    try:
        return import_module(name)
    except ImportError:
        raise CannotOpen(
            f"This needs the packages of requirements/columns.lock ({name} is not installed here): "
            "pip install -r requirements/columns.lock."
        ) from None
