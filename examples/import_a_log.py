"""Import a stranger's log, guessing how it is written, and draw it: ``python examples/import_a_log.py log.png``."""

import sys
from pathlib import Path

from vinecompass import check, demo_file, guess_format, import_run, read_robot
from vinecompass.figures import draw_run, save_figure

folder, robot = Path(__file__).parent / "strangers_log", read_robot(demo_file("robot.toml"))
tables = {
    "scans": [folder / "laser-1.csv.gz", folder / "laser-2.csv.gz"],
    "wheels": [folder / "encoders.txt"],
    "imu": [folder / "imu.tsv"],
    "odometry": [folder / "velocity.csv"],
}
guesses = {stream: guess_format(stream, files, robot) for stream, files in tables.items()}
for stream, guess in guesses.items():
    print(stream, *guess.reasons, sep="\n  ")
formats = {stream: guess.how for stream, guess in guesses.items()}
columns = {f"{stream}.{key}": name for stream, guess in guesses.items() for key, name in guess.columns.items()}
run = import_run(tables, robot, formats=formats, columns=columns, start=[36.0, 24.6, 0.0])
for finding in check(run).findings:
    print(f"{finding.severity}: {finding.stream}: {finding.fault}, {finding.evidence}")

picture = sys.argv[1] if len(sys.argv) > 1 else "log.png"
save_figure(draw_run(run), picture)
