"""Mapping the same hall lap after lap: whether errors, graph, memory and time a scan stay once the floor is known."""

from __future__ import annotations

import time
from dataclasses import replace

import numpy as np

from benchmarks.other_world.record_campaign import place_and_run, place_and_sensors
from benchmarks.other_world.recorder import record
from vinecompass import Mapper, Track, build_map, compare_relations
from vinecompass.fusion import usual_odometry
from vinecompass.geometry import compose
from vinecompass.odometry import swept_scans

__all__ = ["campaign"]

HALL = 2
"""Number of the place: its way comes back to where it begins."""


def campaign(laps: int) -> None:
    """Map so many laps in one run, of some 330 s each, and print what came of each."""
    place, sensors = place_and_sensors(HALL)
    run = record(replace(place, way=np.tile(place.way, (laps, 1))), sensors, np.random.default_rng([HALL, laps]))
    assert run.truth is not None
    begun = time.perf_counter()
    odometry = usual_odometry(run)
    print(f"{odometry.t[-1]:.0f} s, fused in {time.perf_counter() - begun:.0f} s", flush=True)
    # What is compiled once is no part of a scan's time.
    build_map(place_and_run(HALL)[1])
    mapper, stamps = Mapper(run.robot, start=run.start), run.scan_stamps()
    ends = np.linspace(0, len(stamps), laps + 1).astype(int)[1:]
    numbers, places, seconds = np.empty(len(stamps), int), np.empty((len(stamps), 3)), np.empty(len(stamps))
    for i, (scan, motion) in enumerate(swept_scans(run, odometry)):
        begun = time.perf_counter()
        mapper.update(scan, motion)
        seconds[i] = time.perf_counter() - begun
        numbers[i], places[i] = mapper.place
        if i + 1 in ends:
            last = seconds[i + 1 - len(stamps) // laps : i + 1]
            off = compare_relations(
                Track(stamps[: i + 1], compose(mapper.graph.poses[numbers[: i + 1]], places[: i + 1])), run.truth
            )
            own = np.count_nonzero(~mapper.graph.rides)
            print(
                f"{scan.t:6.0f} s  aligned {off.aligned_rmse:.3f} m  relation {1e3 * off.position:.1f} mm  "
                f"submaps {own} of {len(mapper.submaps)}  links {len(mapper.graph.links)}  "
                f"scans kept {len(mapper.keyframes)}  {mapper.memory / 2**20:.0f} MB  "
                f"a scan {1e3 * last.mean():.2f} ms, slowest {1e3 * last.max():.0f} ms",
                flush=True,
            )
