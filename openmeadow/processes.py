"""The commands that start processes: serve, worker, demo."""

from __future__ import annotations

import click


def register(main: click.Group) -> None:
    """Add the commands to ``meadow``."""
