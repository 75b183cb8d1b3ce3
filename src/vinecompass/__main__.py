"""Run the command line with ``python -m vinecompass``."""

from vinecompass.cli import main

main()
