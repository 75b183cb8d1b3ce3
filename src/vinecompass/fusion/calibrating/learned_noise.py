"""How much each sensor errs on a run, estimated from the run itself, beside what the robot file says."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

from vinecompass.fusion.calibrating.estimated_value import EstimatedValue
from vinecompass.motion import unrolling_of
from vinecompass.odometry import dead_reckon, turned_by_gyro
from vinecompass.robot import Lidar, Robot
from vinecompass.runs import Imu, Run, Scans, Track

__all__ = ["NOISES", "contradictions", "learn_noise", "noise_advice", "with_learned_noise"]

FloatArray = NDArray[np.float64]
NOISES = {
    "slip": ("wheels", "slip"),
    "turn_rate_noise": ("imu", "turn_rate_noise"),
    "acceleration_noise": ("imu", "acceleration_noise"),
    "turn_rate_bias_walk": ("imu", "turn_rate_bias_walk"),
    "range_noise": ("lidar", "range_noise"),
    "range_noise_per_metre": ("lidar", "range_noise_per_metre"),
}
"""Where in a robot file what is learned stands."""
SPAN, LEAST_WAY, FEWEST = 1.0, 0.2, 20
"""Seconds over which wheels are compared, metres that the robot must go in them, and how many such spans it takes."""
WINDOW, LEAST_WINDOWS = 20.0, 6
"""Seconds over which the gyro's bias is averaged, and how many such windows it takes."""
MANY_SCANS, RANGE_STEP, FEWEST_BEAMS = 200, 1.0, 300
"""About so many scans are looked at, by metres of range, each with so many beams at least."""
NORMAL = 1.4826
"""Standard deviation of normal errors, by the median of their absolute values."""
ENOUGH = 0.25
"""Share of its value to which a noise must be known."""
FARTHEST = 10.0
"""Times as large or as small as filed that a noise is taken for at most."""
WRONG, SURE, MIDDLE_RANGE = 2.5, 3.0, 5.0
"""Times as large or as small as filed, and standard errors off, from which a noise is filed wrongly; and the range, m,
at which those of ranges are compared."""


def learn_noise(run: Run, scanned: Track | None) -> dict[str, EstimatedValue]:
    """Estimate the noise of wheels, IMU and lidar from a run.

    Each is found where the sensors contradict each other or themselves, by medians, so that slip on a wet floor and
    what people do to scans hardly count: the wheels' slip by how far they turn otherwise, second by second, than the
    gyro or the scans; the gyro's and the accelerations' noise by how they leap from reading to reading; the wandering
    of the gyro's bias by the scans over longer times; and the ranges' by how far three neighbouring beams miss a
    straight wall.

    Parameters
    ----------
    run : Run
    scanned : Track or None
        The body's track by laser odometry, if there is one.

    Returns
    -------
    dict of str to EstimatedValue
        Under the names in `NOISES`, what the run tells of; with its standard error.
    """
    robot = run.robot
    found: dict[str, EstimatedValue] = {}
    turned = _turned(run, scanned)
    if (
        run.wheels is not None
        and turned is not None
        and robot.drive.track_width is not None
        and not robot.drive.steered
    ):
        found |= _slip(dead_reckon(run.wheels, robot.drive), turned, robot)
    if run.imu is not None and len(run.imu.t) > 10 * FEWEST:
        found |= _imu_noise(run.imu, robot)
        if scanned is not None:
            found |= _bias_walk(run.imu, scanned, robot)
    if run.scans is not None:
        found |= _range_noise(run.scans, robot.scanner)
    return found


def with_learned_noise(robot: Robot, learned: dict[str, EstimatedValue]) -> Robot:
    """Return a robot whose wheels and IMU err as a run tells, so far as it does, and not as is filed.

    A noise is taken for at most `FARTHEST` times as large or as small as filed: beyond, something else is wrong.
    """
    tables: dict[str, dict[str, float]] = {"wheels": {}, "imu": {}}
    for name, noise in learned.items():
        table, key = NOISES[name]
        if table in tables and noise.known and noise.value > 0.0:
            most = FARTHEST * noise.filed if noise.filed > 0.0 else np.inf
            tables[table][key] = float(np.clip(noise.value, noise.filed / FARTHEST, most))
    return robot.model_copy(
        update={table: getattr(robot, table).model_copy(update=values) for table, values in tables.items()}
    )


def contradictions(learned: dict[str, EstimatedValue]) -> dict[str, EstimatedValue]:
    """Return the noises that are filed so wrongly that a run contradicts them."""
    wrong = {name for name, noise in learned.items() if _contradicts(noise)}
    base, slope = (learned.get(name) for name in ("range_noise", "range_noise_per_metre"))
    if base is not None and slope is not None:
        middle = (base.value + MIDDLE_RANGE * slope.value) / max(base.filed + MIDDLE_RANGE * slope.filed, 1e-12)
        wrong -= {"range_noise", "range_noise_per_metre"} if 1.0 / WRONG < middle < WRONG else set()
    return {name: learned[name] for name in learned if name in wrong}


def _contradicts(noise: EstimatedValue) -> bool:
    ratio = noise.value / max(noise.filed, 1e-12)
    return (
        noise.value > 0.0
        and noise.known
        and abs(noise.value - noise.filed) > SURE * noise.error
        and not 1.0 / WRONG < ratio < WRONG
    )


def noise_advice(name: str, noise: EstimatedValue) -> str:
    """Return the line of a robot file that fits a run: ``[wheels] slip = 0.012 fits this run``."""
    table, key = NOISES[name]
    return f"[{table}] {key} = {noise.value:.2g} fits this run"


def _turned(run: Run, scanned: Track | None) -> Track | None:
    """Return what tells best how far the body turned over a second: the gyro, or else the scans."""
    if run.imu is None:
        return scanned
    turned = turned_by_gyro(run.imu)
    return Track(run.imu.t, np.column_stack([np.zeros((len(turned), 2)), turned]))


def _slip(wheels: Track, turned: Track, robot: Robot) -> dict[str, EstimatedValue]:
    """Return the wheels' slip, by how far they turn the body beyond what it turned."""
    first, last = max(wheels.t[0], turned.t[0]), min(wheels.t[-1], turned.t[-1])
    begins = np.arange(first, last - SPAN, SPAN)
    if len(begins) < FEWEST:
        return {}
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(wheels.poses[:, :2], axis=0).T))])
    way = np.diff(np.interp([begins, begins + SPAN], wheels.t, along), axis=0)[0]
    by_wheels, truly = (
        np.diff(np.interp([begins, begins + SPAN], track.t, np.unwrap(track.poses[:, 2])), axis=0)[0]
        for track in (wheels, turned)
    )
    moving = way > LEAST_WAY
    if np.sum(moving) < FEWEST:
        return {}
    # What a bias, unequal wheels and a wrong track width make of it is no slip.
    design = np.column_stack([np.ones(len(way)), way, truly])[moving]
    beyond = (by_wheels - truly)[moving]
    scale = NORMAL * float(np.median(np.abs(beyond))) + 1e-6

    def residuals(p: FloatArray) -> FloatArray:
        return np.asarray((design @ p - beyond) / scale)

    fit = least_squares(residuals, np.zeros(3), loss="cauchy")
    shares = (beyond - design @ fit.x) / way[moving]
    lasting = robot.wheels.slip_time / SPAN
    # How far slip that lasts for a while averages out over the span, and what one wheel's does to the heading.
    averaged = np.sqrt(2.0 * lasting * (1.0 - lasting * (1.0 - np.exp(-1.0 / lasting))))
    by_slip = float(averaged * np.hypot.reduce(unrolling_of(robot.drive)[2]))
    value = NORMAL * float(np.median(np.abs(shares))) / by_slip
    return {"slip": _estimate(value, len(shares), robot.wheels.slip)}


def _imu_noise(imu: Imu, robot: Robot) -> dict[str, EstimatedValue]:
    """Return the noise of turn rate and accelerations, by how they bend from reading to reading.

    Of three readings in a row the middle one is compared with the mean of the others, as motion hardly bends so fast.
    """

    def bend(values: FloatArray) -> float:
        return NORMAL * float(np.median(np.abs(values[2:] - 2.0 * values[1:-1] + values[:-2]))) / np.sqrt(6.0)

    # Second differences of neighbours tell nearly the same: a third of them is new.
    independent = len(imu.t) // 3
    found = {"turn_rate_noise": _estimate(bend(imu.turn_rate), independent, robot.imu.turn_rate_noise)}
    pushes = np.hypot(bend(imu.acceleration_x), bend(imu.acceleration_y)) / np.sqrt(2.0)
    if pushes > 0.0:
        found["acceleration_noise"] = _estimate(float(pushes), independent, robot.imu.acceleration_noise)
    return found


def _bias_walk(imu: Imu, scanned: Track, robot: Robot) -> dict[str, EstimatedValue]:
    """Return how fast the gyro's bias wanders, by what it reads beyond the scans over one long window and the next."""
    begins = np.arange(max(imu.t[0], scanned.t[0]), min(imu.t[-1], scanned.t[-1]) - WINDOW, WINDOW)
    if len(begins) < LEAST_WINDOWS:
        return {}
    edges = np.append(begins, begins[-1] + WINDOW)
    read = np.interp(edges, imu.t, turned_by_gyro(imu))
    seen = np.interp(edges, scanned.t, np.unwrap(scanned.poses[:, 2]))
    turned = np.diff(seen)
    biases = np.diff(read) / robot.imu.turn_rate_scale - turned
    # A scale that is a little wrong is no wandering.
    design = np.column_stack([np.ones(len(turned)), turned])
    rates = (biases - design @ np.linalg.lstsq(design, biases, rcond=None)[0]) / WINDOW
    steps = np.diff(rates)
    # What the scans' own headings do not know makes neighbouring steps go against each other (-1/2), a wandering
    # makes them go along (+1/4): two equations, of steps and of their products.
    square, product = float(np.mean(steps**2)), float(np.mean(steps[1:] * steps[:-1]))
    walk = (square + 2.0 * product) / WINDOW
    error = 2.5 * square / np.sqrt(len(steps)) / WINDOW
    value = np.sqrt(max(walk, 0.0))
    spread = error / (2.0 * value) if value > 0.0 else np.sqrt(error)
    return {"turn_rate_bias_walk": EstimatedValue(value, float(spread), robot.imu.turn_rate_bias_walk, ENOUGH * value)}


def _range_noise(scans: Scans, lidar: Lidar) -> dict[str, EstimatedValue]:
    """Return the noise of ranges at no distance and for each metre, by how far three beams miss a straight wall.

    Along a wall, ``1 / range`` is a sine of the beam's angle, so that of three neighbours the middle one follows from
    the others, whatever the wall's direction.
    """
    ranges = scans.ranges[:: max(len(scans) // MANY_SCANS, 1)].astype(float)
    step = lidar.beam_angles[1] - lidar.beam_angles[0]
    with np.errstate(divide="ignore", invalid="ignore"):
        inverse = np.where(lidar.returned(ranges), 1.0 / ranges, np.nan)
    before, middle, after = inverse[:, :-2], inverse[:, 1:-1], inverse[:, 2:]
    cosine = 2.0 * np.cos(step)
    off = (before + after - cosine * middle) / np.sqrt(2.0 + cosine**2) / middle**2
    known = np.isfinite(off)
    off, away = off[known], 1.0 / middle[known]
    bins = np.floor(away / RANGE_STEP).astype(int)
    rows = []
    for number in np.unique(bins):
        inside = bins == number
        if np.sum(inside) >= FEWEST_BEAMS:
            # By the median: at edges and on curved things, which are few, three beams are on no wall.
            spread = NORMAL * float(np.median(np.abs(off[inside])))
            rows.append((float(away[inside].mean()), spread, spread / np.sqrt(np.sum(inside) / 3.0)))
    if len(rows) < 3:
        return {}
    at, spreads, errors = np.array(rows).T
    errors = np.hypot(errors, 0.05 * spreads)
    design = np.column_stack([np.ones(len(at)), at]) / errors[:, None]
    covariance = np.linalg.inv(design.T @ design)
    base, slope = covariance @ design.T @ (spreads / errors)
    scatter = max(1.0, float(np.std(design @ np.array([base, slope]) - spreads / errors)))
    base_error, slope_error = scatter * np.sqrt(np.diag(covariance))
    return {
        "range_noise": EstimatedValue(max(base, 0.0), base_error, lidar.range_noise, ENOUGH * max(base, 1e-9)),
        "range_noise_per_metre": EstimatedValue(
            max(slope, 0.0), slope_error, lidar.range_noise_per_metre, ENOUGH * max(slope, 1e-9)
        ),
    }


def _estimate(value: float, count: int, filed: float) -> EstimatedValue:
    """Return a standard deviation by the median of so many absolute errors: it is off by 1.17 of its value by root."""
    return EstimatedValue(value, 1.17 * value / np.sqrt(count), filed, ENOUGH * value)
