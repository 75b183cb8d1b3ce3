"""Run with ``python -m benchmarks [-o FILE.json]``: prints a table of ratios and writes it as JSON."""

from __future__ import annotations

import argparse
import datetime
import json
import os
import platform
from pathlib import Path

from benchmarks.cases import all_cases
from vinecompass.files import atomic_write


def processor() -> str:
    """Return the processor's name where the system tells it."""
    try:
        lines = Path("/proc/cpuinfo").read_text().splitlines()
    except OSError:
        return platform.processor()
    return next((line.split(":")[1].strip() for line in lines if line.startswith("model name")), platform.machine())


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m benchmarks", description=__doc__)
    parser.add_argument("-o", "--out", type=Path, default=Path("benchmarks-out/benchmarks.json"))
    arguments = parser.parse_args()
    machine = f"{processor()}, {os.cpu_count()} cores, Python {platform.python_version()}"
    print(f"{machine}, {datetime.date.today()}")
    print(f"{'work':<44} {'ours, ms':>10} {'yardstick, ms':>14} {'ratio':>8}  note")
    rows = []
    for case in all_cases():
        rows.append(case)
        print(
            f"{case['work']:<44} {case['ours_ms']:>10.2f} {case['yardstick_ms']:>14.2f} {case['ratio']:>7.1f}x  "
            f"{case['yardstick']}; {case['note']}",
            flush=True,
        )
    result = {"machine": machine, "date": str(datetime.date.today()), "cases": rows}
    print(f"wrote {atomic_write(arguments.out, json.dumps(result, indent=2) + chr(10))}")


main()
