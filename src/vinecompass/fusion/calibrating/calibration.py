"""Where the lidar really sits, how large the wheels really are: estimated from a run."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import tomlkit
from numpy.typing import NDArray
from scipy.optimize import least_squares

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.fusion.calibrating.base_response import base_response
from vinecompass.fusion.calibrating.estimated_value import EstimatedValue, curvature_errors
from vinecompass.fusion.calibrating.learned_noise import NOISES, learn_noise
from vinecompass.fusion.calibrating.sweep_time import scanner_track
from vinecompass.geometry import arc, arc_velocity, chain, compose, inverse, relative, wrap_angle
from vinecompass.odometry import turned_by_gyro, wheel_ways
from vinecompass.robot import Drive, Robot
from vinecompass.runs import Run, Track, cleaned

__all__ = ["Calibration", "EstimatedValue", "amend_robot_file", "amended_robot", "amendments", "estimate_mount"]

FloatArray = NDArray[np.float64]
SEGMENT = 1.0
"""Seconds of motion that are compared at a time: longer than wheels creep, shorter than they slip."""
POSITION_SCATTER, TURN_SCATTER = 0.006, 0.004
"""Metres and radians by which good segments differ; what differs by far more (slip) hardly counts."""
GAP = 0.5
"""Seconds between two readings of wheels, or of a gyro, across which no motion is compared."""
STRICTER = (30.0, 6.0, 1.0)
"""Standard deviations from which a segment counts less, round after round: where the robot file is far wrong, the few
segments in which the robot turns would be left out as slip if the first were strict."""
LEAST_SEGMENTS, LEAST_TURN = 10, np.radians(90.0)
"""Segments in motion, and radians turned in all, without which nothing is estimated."""


@dataclass(frozen=True)
class Calibration:
    """What a run says about the robot that made it.

    Parameters
    ----------
    values : dict of str to EstimatedValue
        ``mount_x`` and ``mount_y``, m, and ``mount_heading``, radians, of the lidar; ``wheel_radius`` and
        ``track_width``, m, and ``wheel_difference``; ``stamp_offset`` and ``sweep_time`` of the scans, s; with an IMU
        ``turn_rate_bias``, rad/s, and ``turn_rate_scale``; with commands the base's ``delay`` and ``lag``, s; and the
        noises that `learn_noise` finds.
    segments : int
        Spans of motion that were compared.
    mirrored : bool
        Whether the scans turn the other way round than the wheels: the lidar hangs upside down, or its beams are
        listed in reverse. The values are those of the scans read the right way round.
    """

    values: dict[str, EstimatedValue]
    segments: int
    mirrored: bool


@checked
def estimate_mount(
    run: Run, *, track: Track | None = None, progress: Callable[[float, str], None] | None = None
) -> Calibration:
    """Estimate the lidar's mount, the wheels, the gyro and the scans' clock from a run that drives curves.

    The motion of the scanner, by laser odometry, is compared second by second with the motion that the wheels (or an
    odometry stream) give it through the mount. Seconds of slip stand out and count little.

    Parameters
    ----------
    run : Run
        With scans, and wheels or odometry; it should turn both ways, in place and on curves, for a minute or more.
    track : Track, optional
        The scanner's own track, if it is known already: `scanner_track`. The sweep is not estimated then.
    progress : callable, optional
        Called with the share done, 0 to 1, and a word.

    Raises
    ------
    InputError
        The run has no scans, or neither wheels nor odometry; or it moves or turns too little.

    Notes
    -----
    After Censi, Franchi, Marchionni and Oriolo (2013), "Simultaneous calibration of odometry and sensor parameters for
    mobile robots", solved by robust nonlinear least squares. Standard errors come from the curvature at the solution.
    """
    run, _ = cleaned(run)
    # Of stamps since 1970, too few digits are left to try small offsets of the clock.
    run, track = run.shifted(-run.begins), None if track is None else Track(track.t - run.begins, track.poses)
    swept = None
    if track is None:
        run, track, _, swept = scanner_track(run, progress=progress)
    lidar, drive = run.robot.scanner, run.robot.drive
    stamps, ways = _ways(run)
    begins, ends, seen, rolled = _segments(run, track, stamps, ways)
    mirrored = bool(np.sum(seen[:, 2] * rolled[:, 2]) < 0.0)
    if mirrored:
        seen = seen * [1.0, -1.0, -1.0]
    has_wheels = run.odometry is None or run.wheels is not None

    def residuals(p: FloatArray) -> FloatArray:
        """Return how far each segment of the scanner's motion is from the one that the parameters lead to."""
        reckoned = Track(stamps, chain(np.zeros(3), arc(_scaled(ways, drive, p) if has_wheels else ways, 1.0)))
        motion = relative(reckoned.at(ends + p[5]), reckoned.at(begins + p[5]))
        off = relative(seen, compose(compose(inverse(p[:3]), motion), p[:3]))
        return np.ravel(off / [POSITION_SCATTER, POSITION_SCATTER, TURN_SCATTER])

    first = np.array([*lidar.mount_pose[:2], _mount_heading(seen, rolled), 1.0, 1.0, 0.0, 0.0])
    on_one_axle = has_wheels and drive.track_width is not None
    free = np.array(
        [
            True,
            True,
            True,
            has_wheels,
            on_one_axle,
            bool(np.all(np.diff(stamps) > 0.0)),
            on_one_axle and not drive.steered,
        ]
    )

    def of_free(values: FloatArray) -> FloatArray:
        p = first.copy()
        p[free] = values
        return residuals(p)

    found, steps = first[free], np.full(int(free.sum()), 1e-5)
    for scale in STRICTER:
        fit = least_squares(of_free, found, loss="cauchy", f_scale=scale, x_scale="jac", diff_step=steps)
        found = fit.x
    # The scatter as it is, by its median, so that slip does not count; the curvature is that of the robust cost.
    spread = max(1.4826 * float(np.median(np.abs(of_free(fit.x)))), 0.2)
    errors, values = np.zeros(len(first)), first.copy()
    values[free] = fit.x
    errors[free] = spread * curvature_errors(fit.jac)
    values[2] = wrap_angle(values[2])
    result = _lidar_and_wheels(run.robot, values, errors, has_wheels=has_wheels)
    if swept is not None:
        result["sweep_time"] = swept
    if not mirrored:
        result |= learn_noise(run, track)
    if run.imu is not None:
        result |= _gyro(run, begins + values[5], ends + values[5], seen[:, 2])
    if run.commands is not None:
        elapsed = np.diff(stamps)
        good = elapsed > 0.0
        middles = stamps[:-1] + 0.5 * elapsed
        result |= base_response(drive, run.commands, middles[good], ways[good] / elapsed[good, None])
    return Calibration(result, len(seen), mirrored)


def _scaled(ways: FloatArray, drive: Drive, p: FloatArray) -> FloatArray:
    """Return ways by wheels whose size, distance and difference are others than filed, as parameters have it."""
    radius, width, difference = p[3], p[4], p[6]
    scaled = ways * [radius, radius, radius / width]
    if drive.track_width is not None:
        filed = drive.track_width
        scaled[:, 0] += radius * 0.25 * difference * filed * ways[:, 2]
        scaled[:, 2] += radius / width * difference * ways[:, 0] / filed
    return scaled


def _lidar_and_wheels(
    robot: Robot, values: FloatArray, errors: FloatArray, *, has_wheels: bool
) -> dict[str, EstimatedValue]:
    """Return what the numbers fitted and their standard errors say: the mount (3), scales of wheels and width, the
    offset, and the difference of the wheels."""
    lidar, drive = robot.scanner, robot.drive
    x, y, heading = lidar.mount_pose
    result = {
        "mount_x": EstimatedValue(values[0], errors[0], x, 0.03),
        "mount_y": EstimatedValue(values[1], errors[1], y, 0.03),
        "mount_heading": EstimatedValue(values[2], errors[2], heading, np.radians(1.0)),
        "stamp_offset": EstimatedValue(lidar.stamp_offset + values[5], errors[5], lidar.stamp_offset, 0.02),
    }
    if has_wheels:
        radius = drive.wheel_radius
        result["wheel_radius"] = EstimatedValue(radius * values[3], radius * errors[3], radius, 0.01 * radius)
        if drive.track_width is not None:
            width = drive.track_width
            result["track_width"] = EstimatedValue(width * values[4], width * errors[4], width, 0.02 * width)
            if not drive.steered:
                filed = drive.wheel_difference
                result["wheel_difference"] = EstimatedValue(filed + values[6], errors[6], filed, 0.0007)
    return result


def _segments(
    run: Run, track: Track, stamps: FloatArray, ways: FloatArray
) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
    """Return the spans in which the robot moved: when each begins and ends, and its motion by scanner and wheels."""
    every = max(round(SEGMENT * run.robot.scanner.rate), 1)
    begins, ends = track.t[:-every:every], track.t[every::every]
    seen = relative(track.poses[every::every], track.poses[:-every:every])
    body = Track(stamps, chain(np.zeros(3), arc(ways, 1.0)))
    rolled = relative(body.at(ends), body.at(begins))
    inside = (begins > stamps[0] + 0.5) & (ends < stamps[-1] - 0.5) & (ends - begins < 1.5 * SEGMENT)
    inside &= _goes_on(stamps, begins, ends)
    moving = inside & ((np.hypot(*rolled[:, :2].T) > 0.05) | (np.abs(rolled[:, 2]) > 0.05))
    if np.sum(moving) < LEAST_SEGMENTS or np.sum(np.abs(rolled[moving, 2])) < LEAST_TURN:
        raise InputError(
            "moves or turns too little to estimate a mount from",
            file=run.folder,
            key="scans",
            value=f"{np.sum(moving)} s of motion, {np.degrees(np.abs(rolled[moving, 2]).sum()):.0f} degrees turned",
            expected="a minute of curves to both sides",
        )
    return begins[moving], ends[moving], seen[moving], rolled[moving]


def _goes_on(stamps: FloatArray, begins: FloatArray, ends: FloatArray) -> NDArray[np.bool_]:
    """Return in which spans ``(N,)`` a stream has no gap: over one nobody knows which way it went."""
    whole = np.ones(len(begins), dtype=bool)
    for gap in np.flatnonzero(np.diff(stamps) > GAP):
        whole &= (ends <= stamps[gap]) | (begins >= stamps[gap + 1])
    return whole


def amended_robot(robot: Robot, calibration: Calibration) -> Robot:
    """Return the robot with every value that the run told well enough put right."""
    document = robot.model_dump(exclude_none=True)
    for table, key, value in amendments(calibration):
        place = document["lidars"][0] if table == "lidar" else document[table]
        place[key] = value
    return Robot.model_validate(document)


def amend_robot_file(text: str, calibration: Calibration) -> str:
    """Return the text of a robot file with what a calibration knows better; everything else stays as it was written."""
    document: Any = tomlkit.parse(text)
    for table, key, amended in amendments(calibration):
        place = document["lidar"][0] if table == "lidar" else document.setdefault(table, tomlkit.table())
        place[key] = amended
    if calibration.mirrored:
        lidar = document["lidar"][0]
        lidar["first_beam_deg"], lidar["last_beam_deg"] = lidar["last_beam_deg"], lidar["first_beam_deg"]
    return tomlkit.dumps(document)


def amendments(calibration: Calibration) -> list[tuple[str, str, float | list[float]]]:
    """Return the table, key and new value of everything in a robot file that the run told well enough."""
    values = calibration.values
    result: list[tuple[str, str, float | list[float]]] = []
    mount = [values[key] for key in ("mount_x", "mount_y", "mount_heading")]
    if any(value.known for value in mount):
        x, y, heading = (value.value if value.known else value.filed for value in mount)
        result.append(("lidar", "mount", [round(x, 4), round(y, 4), round(float(np.degrees(heading)), 3)]))
    digits_of_noise = [(*NOISES[name], 7) for name in NOISES]
    for table, key, digits in (
        *digits_of_noise,
        ("lidar", "stamp_offset", 4),
        ("lidar", "sweep_time", 6),
        ("drive", "wheel_radius", 5),
        ("drive", "track_width", 4),
        ("drive", "wheel_difference", 5),
        ("drive", "delay", 3),
        ("drive", "lag", 3),
        ("imu", "turn_rate_bias", 6),
        ("imu", "turn_rate_scale", 5),
    ):
        if key in values and values[key].known:
            result.append((table, key, round(float(values[key].value), digits)))
    if "turn_rate_bias" in values and values["turn_rate_bias"].known:
        result.append(("imu", "turn_rate_bias_spread", max(round(float(values["turn_rate_bias"].error), 6), 1e-6)))
    return result


def _ways(run: Run) -> tuple[FloatArray, FloatArray]:
    """Return the stamps ``(N + 1,)`` and the ways ``(N, 3)`` along arcs between them, by the wheels or the odometry."""
    if run.wheels is not None:
        return run.wheels.t, wheel_ways(run.wheels, run.robot.drive)
    if run.odometry is not None:
        return run.odometry.t, arc_velocity(relative(run.odometry.poses[1:], run.odometry.poses[:-1]))
    raise InputError(
        "the run has neither wheels nor odometry",
        file=run.folder,
        key="wheels",
        expected="a table of one of them to compare the scans with",
    )


def _mount_heading(seen: FloatArray, rolled: FloatArray) -> float:
    """Return the heading at which the scanner must sit to see the body's straight motion as it does."""
    straight = (np.abs(rolled[:, 2]) < 0.1) & (np.hypot(*rolled[:, :2].T) > 0.1)
    if not np.any(straight):
        return 0.0
    along = np.arctan2(rolled[straight, 1], rolled[straight, 0]) - np.arctan2(seen[straight, 1], seen[straight, 0])
    return float(np.angle(np.sum(np.exp(1j * along))))


def _gyro(run: Run, begins: FloatArray, ends: FloatArray, turned: FloatArray) -> dict[str, EstimatedValue]:
    """Fit what the gyro reads to what the scans turned: scale and bias, by robust linear least squares."""
    imu = run.imu
    assert imu is not None
    read = turned_by_gyro(imu)
    inside = (begins > imu.t[0]) & (ends < imu.t[-1]) & _goes_on(imu.t, begins, ends)
    read = np.interp(ends[inside], imu.t, read) - np.interp(begins[inside], imu.t, read)
    design = np.column_stack([ends[inside] - begins[inside], turned[inside]])
    if len(read) < LEAST_SEGMENTS or np.sum(np.abs(turned[inside])) < LEAST_TURN:
        return {}

    def residuals(p: FloatArray) -> FloatArray:
        return (design @ p - read) / TURN_SCATTER

    fit = least_squares(residuals, [0.0, 1.0], loss="cauchy")
    spread = max(1.4826 * float(np.median(np.abs(design @ fit.x - read))) / TURN_SCATTER, 0.05)
    bias_error, scale_error = spread * curvature_errors(fit.jac)
    filed = run.robot.imu
    return {
        "turn_rate_bias": EstimatedValue(fit.x[0], bias_error, filed.turn_rate_bias, 0.002),
        "turn_rate_scale": EstimatedValue(fit.x[1], scale_error, filed.turn_rate_scale, 0.01),
    }
