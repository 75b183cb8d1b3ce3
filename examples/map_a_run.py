"""Record a short drive in the demo site, build a map of it, and draw it: ``python examples/map_a_run.py map.png``."""

import sys

from vinecompass import build_map, demo_file, measure_map, read_robot, read_site, record_drive
from vinecompass.figures import draw_mapping, save_figure

site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
route = [(36.9, 24.6), (36.9, 18.5), (29.0, 18.5), (28.3, 22.5)]
run = record_drive(site, robot, route, seed=1, site_toml=demo_file("site.toml").read_text())

mapping = build_map(run)
accuracy = measure_map(mapping.grid, site, run)
print(f"{len(mapping.track)} scans; {100 * accuracy.on_wall:.1f} % of the occupied cells lie on a true wall")

picture = sys.argv[1] if len(sys.argv) > 1 else "map.png"
save_figure(draw_mapping(mapping, run, accuracy), picture)
