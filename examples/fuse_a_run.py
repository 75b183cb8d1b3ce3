"""Drive over the wet floor, check the run, fuse it and draw it: ``python examples/fuse_a_run.py fuse.png``."""

import sys

from vinecompass import check, compare_tracks, demo_file, fuse, read_robot, read_site, record_drive
from vinecompass.figures import draw_fusion, save_figure

site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
route = site.find_route("wet floor").points[:9]
run = record_drive(site, robot, route, seed=2, site_toml=demo_file("site.toml").read_text())

for finding in check(run).findings:
    print(f"{finding.severity}: {finding.stream}: {finding.fault}, {finding.begin:.1f} to {finding.end:.1f} s")
fused = fuse(run)
for name, track in {**fused.alone, "fused": fused.track}.items():
    print(f"{name} ends {compare_tracks(track, run.truth).position[-1]:.2f} m off after {run.truth.length:.0f} m")

picture = sys.argv[1] if len(sys.argv) > 1 else "fuse.png"
save_figure(draw_fusion(fused, run), picture)
