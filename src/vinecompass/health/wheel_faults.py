"""Which explanation of the wheels' columns fits a run best: as filed, swapped, backwards, or a counter begun anew."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.fusion import HeadingSource, standing_wheels
from vinecompass.geometry import relative, wrap_angle
from vinecompass.health.findings import Finding
from vinecompass.importing import unwrapped
from vinecompass.motion import body_velocity
from vinecompass.robot import Robot
from vinecompass.runs import Run, Track, Wheels

__all__ = ["SWAP_COLUMNS", "explain_wheels"]

FloatArray = NDArray[np.float64]
SWAP_COLUMNS = "swap the wheels' columns: --column wheels.left=YOURS at import"
"""What to do about swapped wheels."""
SPAN = 0.5
"""Seconds of motion that are compared at a time."""
FEWEST, LEAST_TURN = 20, np.radians(60.0)
"""Spans in which the scans go, or turn so far in all, without which nothing is compared."""
LEAST_TURN_RATE = 0.1
"""rad/s from which a span is one in which the robot turns."""
TRUSTED = 0.8
"""Share of the spans that count, those that fit best: in the others wheels may slip, or scans follow a person."""
CLEARLY, AT_LEAST = 3.0, 0.04
"""Times as much as another explanation leaves, and metres a second, from which one leaves too much."""
ALIKE = 1.1
"""Times as much as the best explanation leaves, up to which another is as good."""
TOO_FAST = 3.0
"""Times the robot's top speed that no wheel goes."""
BITS = (8, 10, 12, 14, 15, 16, 24, 32)
"""Of counters that begin anew."""
LEAP = 0.75
"""Share of a counter's span by which it leaps when it begins anew, at least."""


@dataclass(frozen=True)
class _Explanation:
    """How the wheels' columns may be meant, the angles that they then tell, and what to do."""

    fault: str
    angles: FloatArray
    advice: str


def explain_wheels(run: Run, sensor: Track | None) -> tuple[Run, Finding | None]:
    """Return a run with its wheels as the best explanation has them, and a finding if that is not as they are filed.

    A counter that begins anew shows by itself. The other explanations are compared with the whole run: with the speed
    of the scans, and with the turning of the gyro, or of the scans where there is none. The one that leaves least
    unexplained is taken if the columns as they are leave clearly more.
    """
    wheels, drive = run.wheels, run.robot.drive
    if wheels is None or len(wheels.t) < 10 or drive.steered or len(drive.wheel_names) != 2:
        return run, None
    standing = _standing_wheel(run)
    if standing is not None:
        return replace(run, wheels=None), standing
    counter = _counter(wheels, run.robot)
    if counter is not None:
        evidence = f"they leap by {np.max(np.abs(np.diff(wheels.angles, axis=0))):.1f} rad from row to row"
        return _explained(run, counter, evidence)
    spans = _spans(run, sensor)
    if spans is None:
        return run, None
    explanations = _explanations(wheels, can_swap=run.imu is not None)
    left = np.array([_unexplained(replace(wheels, angles=one.angles), run.robot, spans) for one in explanations])
    if left[0] < max(CLEARLY * left.min(), AT_LEAST):
        return run, None
    # Of two that turn alike, the one that goes ahead when the scans say so.
    alike = np.flatnonzero(left < ALIKE * left.min() + 0.005)
    best = max(alike, key=lambda one: _along(replace(wheels, angles=explanations[one].angles), run.robot, spans))
    evidence = f"as filed {left[0]:.2f} m/s of the motion are left unexplained, so {left[best]:.2f} m/s"
    return _explained(run, explanations[best], evidence)


def _standing_wheel(run: Run) -> Finding | None:
    """Find a wheel that stands though the robot moves; of the longest time that one does."""
    found = standing_wheels(replace(run, scans=None))
    if not found:
        return None
    most = max(found, key=lambda each: each.way)
    return Finding(
        "fatal",
        "wheels",
        f"the {most.wheel} wheel stands",
        f"the other rolls {most.way:.1f} m meanwhile",
        most.begin,
        most.end,
        "look at its encoder and the cable; `fuse` goes without the wheels meanwhile, where there are scans",
    )


def _explained(run: Run, found: _Explanation, evidence: str) -> tuple[Run, Finding]:
    """Return a run with its wheels as an explanation has them, and the finding."""
    assert run.wheels is not None
    t = run.wheels.t
    finding = Finding("fatal", "wheels", found.fault, evidence, float(t[0]), float(t[-1]), found.advice)
    return replace(run, wheels=replace(run.wheels, angles=found.angles)), finding


def _explanations(wheels: Wheels, *, can_swap: bool) -> list[_Explanation]:
    """Return how the wheels' columns may be meant, first as they are filed.

    Swapped wheels and mirrored scans look alike where no gyro decides.
    """
    sign = "change the sign of the encoder, at the base or before the import"
    found = [
        _Explanation("", wheels.angles, ""),
        _Explanation("the left wheel backwards", wheels.angles * (-1.0, 1.0), sign),
        _Explanation("the right wheel backwards", wheels.angles * (1.0, -1.0), sign),
    ]
    if can_swap:
        found.append(_Explanation("left and right swapped", wheels.angles[:, ::-1], SWAP_COLUMNS))
        found.append(_Explanation("both wheels backwards", -wheels.angles, sign))
    return found


def _counter(wheels: Wheels, robot: Robot) -> _Explanation | None:
    """Return the angles of counters that begin anew, if that is what makes the wheels leap."""
    angles, tick = wheels.angles, 2.0 * np.pi / robot.wheels.ticks_per_turn
    duration = np.maximum(np.diff(wheels.t), 1e-3)[:, None]
    fastest = TOO_FAST * robot.drive.top_speed / robot.drive.wheel_radius
    leaps = np.abs(np.diff(angles, axis=0))
    if not np.any(leaps > fastest * duration):
        return None
    for bits in BITS:
        span = tick * 2.0**bits
        if not (LEAP * span < leaps.max() < 1.001 * span and np.ptp(angles, axis=0).max() <= 1.001 * span):
            continue
        whole = unwrapped(angles, span)
        if np.all(np.abs(np.diff(whole, axis=0)) <= fastest * duration + tick):
            advice = f"import again with --how wheels.counter_bits={bits}"
            return _Explanation(f"counter of {bits} bits begins anew", whole, advice)
    return None


def _spans(run: Run, sensor: Track | None) -> FloatArray | None:
    """Return spans ``(N, 5)``: when they begin and end, how fast the scanner goes, how far the body turns in a second,
    and how fast it goes ahead if the lidar looks where it is filed to look.

    None if there are too few, or if gyro and scans turn against each other, so that one of them is wrong.
    """
    if sensor is None or len(sensor) < 2:
        return None
    begins = np.arange(sensor.t[0], sensor.t[-1] - SPAN, SPAN)
    ends = begins + SPAN
    here, there = sensor.at(begins), sensor.at(ends)
    speed = np.hypot(*(there - here)[:, :2].T) / SPAN
    turned = wrap_angle(there[:, 2] - here[:, 2])
    if run.imu is not None:
        gyro = HeadingSource.from_imu(run.imu)
        read = np.interp(ends, gyro.t, gyro.turned) - np.interp(begins, gyro.t, gyro.turned)
        # Degrees for radians, and a bias, leave the direction as it is.
        ratio = float(np.sum(read * turned) / max(np.sum(turned**2), 1e-9))
        if ratio < 0.0:
            return None
        turned = read if 0.5 < ratio < 2.0 else turned
    moving = (speed > 0.1) | (np.abs(turned) > LEAST_TURN_RATE * SPAN)
    if np.sum(moving) < FEWEST or np.sum(np.abs(turned)) < LEAST_TURN:
        return None
    heading = run.robot.scanner.mount_pose[2]
    steps = relative(there, here)
    ahead = (np.cos(heading) * steps[:, 0] - np.sin(heading) * steps[:, 1]) / SPAN
    return np.column_stack([begins, ends, speed, turned / SPAN, ahead])[moving]


def _velocities(wheels: Wheels, robot: Robot, spans: FloatArray) -> FloatArray:
    """Return the body's mean velocity ``(N, 3)`` in each span by the wheels; `nan` where they tell nothing."""
    begins, ends = spans[:, 0], spans[:, 1]
    turned = np.stack(
        [np.interp(ends, wheels.t, one) - np.interp(begins, wheels.t, one) for one in wheels.angles.T], axis=-1
    )
    turned[(begins < wheels.t[0]) | (ends > wheels.t[-1])] = np.nan
    return body_velocity(robot.drive, turned / (ends - begins)[:, None])


def _unexplained(wheels: Wheels, robot: Robot, spans: FloatArray) -> float:
    """Return what wheels leave unexplained of the motion, m/s at their rims: the means over the spans they fit best."""
    velocity = _velocities(wheels, robot, spans)
    x, y = robot.scanner.mount_pose[:2]
    # The scanner swings as the body turns; how fast it goes does not tell which way.
    by_wheels = np.hypot(velocity[:, 0] - velocity[:, 2] * y, velocity[:, 2] * x)
    half = 0.5 * (robot.drive.track_width or 1.0)
    # Where a robot hardly ever turns, the few spans in which it does must not be those that are left out.
    turns = np.abs(spans[:, 3]) > LEAST_TURN_RATE
    return _mostly(np.abs(by_wheels - spans[:, 2])) + half * _mostly(np.abs(velocity[:, 2] - spans[:, 3])[turns])


def _mostly(off: FloatArray) -> float:
    """Return the mean of the values that are smallest and finite; 0 if there are none."""
    known = np.sort(off[np.isfinite(off)])
    return float(known[: max(int(TRUSTED * len(known)), 1)].mean()) if len(known) else 0.0


def _along(wheels: Wheels, robot: Robot, spans: FloatArray) -> float:
    """Return how well wheels and scans agree on what is ahead: above 0 if they do."""
    return float(np.nansum(_velocities(wheels, robot, spans)[:, 0] * spans[:, 4]))
