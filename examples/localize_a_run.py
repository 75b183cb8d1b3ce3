"""Localize a drive that was told to begin back to front: ``python examples/localize_a_run.py locate.png``."""

import sys

import numpy as np

from vinecompass import build_map, compare_tracks, demo_file, localize, read_robot, read_site, record_drive
from vinecompass.figures import draw_localization, save_figure

site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
route = [(36.9, 24.6), (36.9, 18.5), (29.0, 18.5), (28.3, 22.5)]
grid = build_map(record_drive(site, robot, route, seed=1)).grid

run = record_drive(site, robot, route, seed=2)
told = run.start + [0.3, -0.2, np.pi]
found = localize(grid, run, told, seed=0)
print(f"warning: {found.second_opinion.warning}")
for change in found.changes:
    print(f"{change.t:5.1f} s {change.state}: {change.reason}")
error = compare_tracks(found.track, run.truth).since(found.track.t[found.settled_at])
print(f"tracking after {found.settled_after:.1f} m, then {error.position_rmse:.3f} m off")

picture = sys.argv[1] if len(sys.argv) > 1 else "locate.png"
save_figure(draw_localization(grid, run, found), picture)
