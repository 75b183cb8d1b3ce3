"""Drive a round of four stops past people, with what to do when one fails.

Run ``python examples/drive_a_round.py round.png``.
"""

import sys

from vinecompass import Round, build_map, demo_file, read_robot, read_site, record_drive, rehearse_mission
from vinecompass.figures import draw_drive, save_figure
from vinecompass.navigation import RoundStop

site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
route = [(36.9, 24.6), (36.9, 18.5), (29.0, 18.5), (28.2, 22.5), (24.5, 23.6)]
grid = build_map(record_drive(site, robot, route, seed=1)).grid

morning = Round(
    name="morning round",
    stops=[
        RoundStop(name="gallery", pose=(34.0, 18.5, 180.0), dwell=2.0),
        RoundStop(name="door", pose=(28.2, 21.0, 90.0), on_failure="retry"),
        # Nobody can stand there: it is skipped, with the reason.
        RoundStop(name="in the bottling line", pose=(22.0, 27.0, 0.0)),
        RoundStop(name="back again", pose=(30.5, 18.5, 0.0)),
    ],
)
mission = rehearse_mission(site, robot, grid, morning, zones=site.zones, seed=2, time_limit=200.0)
for arrival in mission.arrivals:
    print(f"{arrival.name}: {'reached' if arrival.reached else arrival.reason} at {arrival.t:.0f} s")
print(f"{mission.contacts} contacts; safety stepped in {len(mission.log.interventions)} times")

save_figure(draw_drive(grid, mission), sys.argv[1] if len(sys.argv) > 1 else "round.png")
