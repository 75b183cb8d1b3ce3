"""Run with ``python -m benchmarks.localization_campaign [SEEDS]``: localization against the truth, in two sites.

Maps are made of one drive each; then people walk and a tenth of the furniture is moved, otherwise for each seed.
"""

from __future__ import annotations

import dataclasses
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from benchmarks.localization_runs import carried_away, demo_map, demo_run, estate_map, estate_part_run, part_of
from vinecompass import Grid, ParticleLocalizer, Run, Scan, Track, compare_tracks, localize
from vinecompass.fusion import usual_odometry
from vinecompass.geometry import distance_along, wrap_angle
from vinecompass.localization import Localization
from vinecompass.odometry import motion_at

FloatArray = NDArray[np.float64]
STARTS = 3
"""Places along each run from which it is localized anew."""
RIGHT, RIGHT_TURN = 0.3, np.radians(10.0)
"""Metres and radians within which a pose is right."""


@dataclass
class Tally:
    """What came of one site, an entry for each run or start."""

    position: list[float] = dataclasses.field(default_factory=list)
    heading: list[float] = dataclasses.field(default_factory=list)
    inside: list[float] = dataclasses.field(default_factory=list)
    off: list[float] = dataclasses.field(default_factory=list)
    anywhere: list[float] = dataclasses.field(default_factory=list)
    carried: list[float] = dataclasses.field(default_factory=list)
    turned: list[bool] = dataclasses.field(default_factory=list)
    false_alarms: list[bool] = dataclasses.field(default_factory=list)
    confident_and_wrong: list[float] = dataclasses.field(default_factory=list)
    seconds: list[float] = dataclasses.field(default_factory=list)


def right_after(found: Localization, run: Run, since: float = 0.0) -> float:
    """Return the way from a time on after which it tracked, and was right from then on to the end, m."""
    assert run.truth is not None
    error = compare_tracks(found.track, run.truth)
    good = (error.position < RIGHT) & (np.abs(error.heading) < RIGHT_TURN) & (found.states() == "tracking")
    # Settled is settled: a doubt later on, with the right pose, does not undo it.
    wrong = (error.position >= RIGHT) | (np.abs(error.heading) >= RIGHT_TURN)
    late = found.track.t > since
    last_wrong = np.flatnonzero(wrong & late)
    first = last_wrong[-1] + 1 if len(last_wrong) else int(np.argmax(late))
    settled = np.flatnonzero(good[first:])
    way = distance_along(run.truth.at(found.track.t))
    return float(way[first + settled[0]] - way[int(np.argmax(late))]) if len(settled) else float("inf")


def first_answer(grid: Grid, run: Run, odometry: Track, pose: FloatArray | None) -> tuple[ParticleLocalizer, float]:
    """Localize the first scan; return the localizer, and how long that took, s."""
    assert run.scans is not None
    localizer = ParticleLocalizer(grid, run.robot, pose, seed=0)
    scan = Scan(float(run.scans.t[0]), run.scans.ranges[0])
    motion = motion_at(odometry, scan.t, run.robot.scanner)
    begun = time.perf_counter()
    localizer.update(scan, motion)
    return localizer, time.perf_counter() - begun


def judge(tally: Tally, grid: Grid, run: Run, seed: int) -> None:
    """Localize a run whole, and from places along it, with all kinds of starts."""
    assert run.truth is not None and run.scans is not None
    rng, odometry = np.random.default_rng(seed), usual_odometry(run)
    whole = localize(grid, run, run.start, odometry=odometry, seed=seed)
    error = compare_tracks(whole.track, run.truth).since(whole.track.t[whole.settled_at or 0])
    tally.position.append(error.position_rmse)
    tally.heading.append(float(np.degrees(error.heading_rmse)))
    tally.inside.append(float(whole.inside_ellipse(run.truth)[whole.settled_at or 0 :].mean()))
    for t in rng.uniform(5.0, run.scans.t[-1] - 45.0, STARTS):
        part, track = part_of(run, odometry, t, t + 40.0)
        assert part.scans is not None and part.truth is not None
        true = part.truth.at(part.scans.t[:1])[0]
        direction = rng.uniform(-np.pi, np.pi)
        off = true + [np.cos(direction), np.sin(direction), np.radians(30.0) * rng.choice([-1.0, 1.0])]
        found = localize(grid, part, off, odometry=track, seed=seed)
        tally.off.append(right_after(found, part))
        tally.false_alarms.append(bool(found.second_opinion and found.second_opinion.warning))
        turned = np.array([*off[:2], wrap_angle(off[2] + np.pi)])
        localizer, _ = first_answer(grid, part, track, turned)
        tally.turned.append(bool(localizer.second_opinion and localizer.second_opinion.warning))
        _, seconds = first_answer(grid, part, track, None)
        tally.seconds.append(seconds)
        found = localize(grid, part, odometry=track, seed=seed)
        tally.anywhere.append(right_after(found, part))
        wrong = compare_tracks(found.track, part.truth).position > 2.0 * RIGHT
        tally.confident_and_wrong.append(float(np.mean(wrong & (found.states() == "tracking"))))
        until = t + rng.uniform(15.0, max(run.scans.t[-1] - 30.0 - t, 16.0))
        moved, track = carried_away(*part_of(run, odometry, t, until + 40.0), t + 8.0, until)
        assert moved.truth is not None and moved.scans is not None
        found = localize(grid, moved, moved.truth.at(moved.scans.t[:1])[0], odometry=track, seed=seed)
        tally.carried.append(right_after(found, moved, since=t + 8.0))


def report(name: str, tally: Tally) -> None:
    """Print what came of a site."""
    squares = np.sqrt(np.mean(np.square(tally.position))), np.sqrt(np.mean(np.square(tally.heading)))
    print(f"{name}, {len(tally.position)} runs, {len(tally.off)} starts")
    print(
        f"  RMSE {squares[0]:.4f} m, {squares[1]:.3f} degrees; of the worst run {max(tally.position):.4f} m, "
        f"{max(tally.heading):.3f} degrees"
    )
    print(
        f"  inside the 95 % ellipse {100.0 * np.mean(tally.inside):.1f} % of the time "
        f"({100.0 * min(tally.inside):.1f} to {100.0 * max(tally.inside):.1f} % of a run)"
    )
    for words, ways, within in (
        ("from 1 m and 30 degrees off", tally.off, 3.0),
        ("from anywhere", tally.anywhere, 10.0),
        ("carried away", tally.carried, 10.0),
    ):
        share = 100.0 * np.mean(np.array(ways) <= within)
        print(
            f"  {words}: right within {within:.0f} m in {share:.1f} %, the median after {np.median(ways):.2f} m, "
            f"the last after {max(ways):.1f} m"
        )
    print(f"  confident and wrong, from anywhere: {100.0 * np.mean(tally.confident_and_wrong):.2f} % of the time")
    print(
        f"  turned by 180 degrees: warned {100.0 * np.mean(tally.turned):.1f} %; "
        f"right ones: {100.0 * np.mean(tally.false_alarms):.1f} %"
    )
    print(
        f"  search of the whole map: median {np.median(tally.seconds):.3f} s, at most {max(tally.seconds):.3f} s",
        flush=True,
    )


def main(seeds: int) -> None:
    sites: tuple[tuple[str, Callable[[], Grid], Callable[[int], Run]], ...] = (
        ("demo site", demo_map, demo_run),
        ("estate, 100 m x 60 m", estate_map, estate_part_run),
    )
    for name, map_of, run_of in sites:
        grid, tally = map_of(), Tally()
        for seed in range(seeds):
            judge(tally, grid, run_of(seed), seed)
        report(name, tally)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 20)
