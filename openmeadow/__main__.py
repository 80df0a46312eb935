"""``python -m openmeadow`` is ``meadow``."""

from openmeadow.cli.main import main

main()
