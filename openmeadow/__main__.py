"""``python -m openmeadow`` is ``meadow``."""

from openmeadow.cli import main

main()
