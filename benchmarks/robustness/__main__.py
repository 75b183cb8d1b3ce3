"""Run with ``python -m benchmarks.robustness [PART …]``: what is thrown at us, and what fell short of it."""

from __future__ import annotations

import argparse
import sys

from benchmarks.robustness import calls, commands, kills, mutations

PARTS = {
    "mutations": (mutations.campaign, 20_000),
    "kills": (kills.campaign, 500),
    "commands": (commands.campaign, 1),
    "calls": (calls.campaign, 1),
}


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m benchmarks.robustness", description=__doc__)
    parser.add_argument("parts", nargs="*", choices=[*PARTS, []], default=[])
    parser.add_argument("--count", type=int, help="how many of each part; otherwise as many as its campaign asks for")
    given = parser.parse_args()
    fallen = 0
    for name in given.parts or PARTS:
        campaign, count = PARTS[name]
        fallen += campaign(given.count or count)
    sys.exit(fallen > 0)


if __name__ == "__main__":
    main()
