"""Run with ``python -m benchmarks.odometry_campaign [SEEDS]``: wet drives, fused from every mix of sensors."""

from __future__ import annotations

import dataclasses
import sys

import numpy as np

from vinecompass import Robot, check, compare_tracks, demo_file, fuse, read_robot, read_site, record_drive

MIXES = (["wheels"], ["imu", "wheels"], ["scans"], ["wheels", "scans"], ["imu", "scans"], ["imu", "wheels", "scans"])


def main(seeds: int) -> None:
    site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
    document = robot.model_dump(exclude_none=True)
    document["imu"] |= {"turn_rate_bias": 0.0, "turn_rate_bias_spread": 0.01, "acceleration_bias": (0.0, 0.0)}
    unknown = Robot.model_validate(document)
    print(
        f"{'route':<12} {'seed':>4} {'sources':<20} {'end, m':>7} {'% of way':>9} {'deg':>7} {'unknown bias, deg':>18}"
    )
    for route in ("wet floor", "grand tour"):
        for seed in range(seeds):
            run = record_drive(site, robot, site.find_route(route).points, seed=seed)
            for sources in MIXES:
                row = []
                for told in (robot, unknown):
                    fused = fuse(dataclasses.replace(run, robot=told), sources=sources)
                    row.append(compare_tracks(fused.track, run.truth))
                way = run.truth.length
                print(
                    f"{route:<12} {seed:>4} {' '.join(sources):<20} {row[0].position[-1]:>7.2f} "
                    f"{100.0 * row[0].position[-1] / way:>9.2f} {np.degrees(row[0].heading[-1]):>7.2f} "
                    f"{np.degrees(row[1].heading[-1]):>18.2f}",
                    flush=True,
                )
            found = [f"{f.fault} {f.begin:.1f}-{f.end:.1f}" for f in check(run).findings]
            print(f"{route:<12} {seed:>4} check: {', '.join(found)}", flush=True)


main(int(sys.argv[1]) if len(sys.argv) > 1 else 5)
