"""Local planning and whole rehearsals, beside what one would write without kernels, and beside real time."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
from scipy.optimize import least_squares
from scipy.spatial import cKDTree

from benchmarks.drive_sites import cellar, map_of
from benchmarks.measuring import measured
from vinecompass import (
    Command,
    Round,
    TimeBand,
    VelocityWindow,
    demo_file,
    plan_path,
    price_floor,
    read_robot,
    rehearse_mission,
)
from vinecompass.contact import Walking
from vinecompass.following import draw_tight, first_guess
from vinecompass.geometry import arc, compose
from vinecompass.navigation import RoundStop
from vinecompass.settings import WindowSettings

CYCLES = 300


def timed_cycles(planner: Any, people: bool) -> tuple[np.ndarray, int]:
    """Drive along a plan through a cellar and return the time of each cycle, ms, and the most candidates there were."""
    site, robot = cellar(3), read_robot(demo_file("robot.toml"))
    floor = price_floor(map_of(site), robot)
    plan = plan_path(floor, robot, site.start_pose, site.find_stop("north").site_pose)
    pose, command, times, most = plan.poses[0], Command(), [], 0
    planner.follow(plan.poses)
    for _ in range(CYCLES):
        # Two people about three metres on, beside where the plan leads: one comes, one stands.
        left = planner.remaining
        x, y, heading = left[min(30, len(left) - 1)].tolist()
        along = np.array([np.cos(heading), np.sin(heading)])
        aside = np.array([-np.sin(heading), np.cos(heading)])
        coming = Walking(*(np.array([x, y]) + 0.2 * aside), *(-0.4 * along))
        walkers = [coming, Walking(x + 1.0, y + 1.0)] if people else []
        begun = time.perf_counter()
        local = planner.step(pose, command, 0.1, floor=floor, people=walkers)
        times.append(1000.0 * (time.perf_counter() - begun))
        if local.considered is not None:
            most = max(most, len(local.considered.cost))
        command = local.command
        pose = compose(pose, arc(command.velocity, 0.1))
        if planner.phase == "arrived":
            planner.follow(plan.poses)
            pose, command = plan.poses[0], Command()
    return np.array(times[5:]), most


def window_case() -> dict[str, Any]:
    """A cycle of the velocity window with 2,000 arcs, beside arcs of constant velocity in vectorised NumPy."""
    robot = read_robot(demo_file("robot.toml"))
    site = cellar(3)
    floor = price_floor(map_of(site), robot)
    line = np.column_stack([np.arange(2.0, 14.0, 0.1), np.full(120, 0.5 * site.walls[0].points[2][1]), np.zeros(120)])
    planner = VelocityWindow(robot, window=WindowSettings(speeds=40, turn_rates=50))
    planner.follow(line)
    tree, outline = cKDTree(line[:, :2]), robot.body.polygon
    speeds, turns = (values.ravel() for values in np.meshgrid(np.linspace(0.5, 1.0, 40), np.linspace(-0.7, 0.7, 50)))
    velocities = np.column_stack([speeds, np.zeros(2000), turns])

    def vectorised() -> None:
        poses = compose(line[0], arc(velocities[:, None], 0.1 * np.arange(1.0, 17.0)))
        cosine, sine = np.cos(poses[..., 2]), np.sin(poses[..., 2])
        free = np.ones(len(velocities), bool)
        for x, y in outline:
            corners = poses[..., :2] + np.stack([cosine * x - sine * y, sine * x + cosine * y], axis=-1)
            cells = floor.grid.cells_at(corners.reshape(-1, 2))
            free &= ~floor.forbidden[cells[:, 0], cells[:, 1]].reshape(poses.shape[:2]).any(axis=1)
        offset, nearest = (np.reshape(found, poses.shape[:2]) for found in tree.query(poses[..., :2].reshape(-1, 2)))
        score = offset.mean(axis=1) - 0.1 * nearest[:, -1]
        np.argmin(np.where(free, score, np.inf))

    case = measured(
        "velocity window, one cycle of 2,000 arcs",
        "vectorised NumPy, corners only",
        lambda: planner.step(line[0], Command(0.8, turn_rate=0.0), 0.1, floor=floor),
        vectorised,
        "",
    )
    times, most = timed_cycles(VelocityWindow(robot, window=WindowSettings(speeds=40, turn_rates=50)), people=False)
    met, _ = timed_cycles(VelocityWindow(robot, window=WindowSettings(speeds=40, turn_rates=50)), people=True)
    case["note"] = (
        f"{most} arcs, driving: median {np.median(times):.1f} ms, 99 % under {np.quantile(times, 0.99):.1f} ms; "
        f"beside two people {np.median(met):.1f} and {np.quantile(met, 0.99):.1f} ms"
    )
    return case


def band_case() -> dict[str, Any]:
    """A band drawn tight from its first guess, beside SciPy's dense least squares on the same terms."""
    robot = read_robot(demo_file("robot.toml"))
    drive = robot.drive
    guess = first_guess([[0.0, 0.0, 0.0], [3.0, 0.0, 0.0], [3.0, 0.0, 1.5], [3.0, 1.0, 1.5]], robot)
    count = len(guess.times)

    def residuals(values: np.ndarray) -> np.ndarray:
        times = values[:count]
        poses = np.vstack([guess.poses[:1], values[count:].reshape(-1, 3), guess.poses[-1:]])
        turn, steps = np.diff(poses[:, 2]), np.diff(poses[:, :2], axis=0)
        middle = poses[:-1, 2] + 0.5 * turn
        way = steps[:, 0] * np.cos(middle) + steps[:, 1] * np.sin(middle)
        aside = steps[:, 1] * np.cos(middle) - steps[:, 0] * np.sin(middle)
        speed, rate = way / times, turn / times
        change = np.diff(np.concatenate([[0.0], speed, [0.0]])) / times.mean()
        return np.concatenate(
            [
                times,
                17.0 * aside,
                4.5 * np.maximum(np.abs(speed) - drive.top_speed, 0.0),
                4.5 * np.maximum(np.abs(rate) - drive.top_turn_rate, 0.0),
                2.2 * np.maximum(np.abs(change) - drive.acceleration, 0.0),
            ]
        )

    first = np.concatenate([guess.times, guess.poses[1:-1].ravel()])
    case = measured(
        "time-optimal band, eight steps of one",
        "SciPy least squares, eight steps",
        lambda: draw_tight(guess, robot),
        lambda: least_squares(residuals, first, max_nfev=8),
        "",
    )
    times, most = timed_cycles(TimeBand(robot), people=False)
    met, more = timed_cycles(TimeBand(robot), people=True)
    case["note"] = (
        f"driving, up to {most} bands: median {np.median(times):.1f} ms, 99 % under {np.quantile(times, 0.99):.1f} ms; "
        f"beside two people, up to {more}: {np.median(met):.1f} and {np.quantile(met, 0.99):.1f} ms"
    )
    return case


def rehearsal_case() -> dict[str, Any]:
    """A whole mission past two people, beside real time."""
    site, robot = cellar(3), read_robot(demo_file("robot.toml"))
    grid = map_of(site)
    seconds: list[float] = []

    def mission() -> None:
        there = Round(stops=[RoundStop(name="south"), RoundStop(name="north")])
        seconds.append(float(rehearse_mission(site, robot, grid, there, seed=1, time_limit=200.0).track.t[-1]))

    mission()
    begun = time.perf_counter()
    mission()
    took = time.perf_counter() - begun
    return {
        "work": "a rehearsal: two stops, two people",
        "yardstick": "real time",
        "ours_ms": 1000.0 * took,
        "yardstick_ms": 1000.0 * seconds[-1],
        "ratio": seconds[-1] / took,
        "note": f"{seconds[-1]:.0f} s driven",
    }


CASES: tuple[Callable[[], dict[str, Any]], ...] = (window_case, band_case, rehearsal_case)


def drive_cases() -> Iterator[dict[str, Any]]:
    """Measure local planning and rehearsals."""
    for case in CASES:
        yield case()
