"""Run with ``python -m vinecompass``, or as the command ``vinecompass``."""

import sys

__all__ = ["main"]


def main() -> None:
    """Run the command line; control-C ends it in one line, even while it is still being loaded."""
    try:
        from vinecompass.cli import main as run

        run()
    except KeyboardInterrupt:
        sys.stderr.write("vinecompass: stopped\n")
        sys.exit(130)


if __name__ == "__main__":
    main()
