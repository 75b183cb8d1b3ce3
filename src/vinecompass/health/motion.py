"""Do the streams agree on the motion: speeds, units, clocks, slip?"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.fusion import HeadingSource, turn_ratio
from vinecompass.geometry import interpolate_poses, relative, wrap_angle
from vinecompass.health.findings import Finding
from vinecompass.robot import Robot
from vinecompass.runs import Imu, Track
from vinecompass.runs.order import inside_spans, spans_of

__all__ = [
    "check_frozen_imu",
    "check_slip",
    "check_speeds",
    "heading_in_degrees",
]

FloatArray = NDArray[np.float64]
IMPOSSIBLE_SPEED = 1.3
"""Times the robot's top speed beyond which a speed is impossible."""
SLIP_WINDOW = 0.5
"""Seconds of motion that are compared at a time to find slip."""
SLIP_SPEED, SLIP_TURN_RATE = 0.08, 0.1
"""m/s and rad/s between wheels and scans (or gyro) beyond which wheels slip."""
LEAST_SLIP = 0.1, 0.1
"""Metres and radians of slip in a row that are told: less may be the scans' own error in a quick turn."""
STANDS_FOR, STANDS, ROLLS_SHARE = 0.7, 1e-3, 0.15
"""Seconds for which the robot moves while its wheels do not turn, nor for as long after; metres and radians within the
window that are no turning; and the share of that time in which they may turn even so."""
DEGREES = 180.0 / np.pi
FROZEN_TURN_RATE = 0.25
"""rad/s between another stream and a turn rate that stays the same by which it is frozen, and not only coarse."""


def heading_in_degrees(odometry: Track, other: HeadingSource | None) -> Finding | None:
    """Find an odometry whose heading is in degrees, by another source's turning or by its sheer size."""
    raw = odometry.poses[:, 2]
    if np.abs(raw).max() <= 2.0 * np.pi:
        return None
    steps = np.diff(raw)
    steps[np.abs(steps) > 180.0] = 0.0
    ratio = float("nan")
    if other is not None:
        ratio = turn_ratio(HeadingSource(odometry.t, np.concatenate([[0.0], np.cumsum(steps)])), other)
    if not (0.8 < ratio / DEGREES < 1.25 or (np.isnan(ratio) and np.abs(raw).max() <= 361.0 and np.ptp(steps) > 0.1)):
        return None
    return Finding(
        "fatal",
        "odometry",
        "degrees taken for radians",
        f"its heading reaches {np.abs(raw).max():.0f}"
        + ("" if np.isnan(ratio) else f" and turns {ratio:.0f} times as fast as the others"),
        float(odometry.t[0]),
        float(odometry.t[-1]),
        "import again with --how odometry.angle=deg",
    )


def check_frozen_imu(imu: Imu, other: HeadingSource | None) -> list[Finding]:
    """Find an IMU that gives the same readings over and over; a coarse gyro may, while it turns steadily."""
    findings = []
    for begin, end in spans_of(imu.t[1:][np.diff(imu.turn_rate) == 0.0], apart=0.05, shortest=0.2):
        inside = (imu.t >= begin) & (imu.t <= end)
        pushed = np.ptp(imu.acceleration_x[inside]) + np.ptp(imu.acceleration_y[inside]) > 0.0
        differs = other is not None and bool(
            np.any(np.abs(other.rates(imu.t[inside]) - imu.turn_rate[inside]) > FROZEN_TURN_RATE)
        )
        if differs or not pushed:
            findings.append(
                Finding(
                    "serious",
                    "imu",
                    "frozen readings",
                    f"the same turn rate to the last digit for {end - begin:.1f} s",
                    float(begin),
                    float(end),
                    "the driver repeats old data: restart it, and drive again",
                )
            )
    return findings


def check_speeds(name: str, track: Track, robot: Robot) -> list[Finding]:
    """Find speeds that this robot cannot reach, jumps, and millimetres taken for metres."""
    drive, steps = robot.drive, np.diff(track.t)
    way = np.hypot(*np.diff(track.poses[:, :2], axis=0).T)
    speeds = way / steps
    moving = speeds[speeds > 1e-3]
    whole = float(track.t[0]), float(track.t[-1])
    if len(moving) and np.median(moving) > 20.0 * drive.top_speed:
        return [
            Finding(
                "fatal",
                name,
                "millimetres taken for metres",
                f"its median speed is {np.median(moving):.0f} m/s, the robot's top speed {drive.top_speed:g} m/s",
                *whole,
                f"import again with --how {name}.length=mm (or put wheel_radius right)",
            )
        ]
    findings = []
    jumps = np.flatnonzero(way > 3.0 * drive.top_speed * steps + 0.1)
    for jump in jumps[np.argsort(-way[jumps], kind="stable")][:5]:
        findings.append(
            Finding(
                "serious",
                name,
                "jump",
                f"{way[jump]:.2f} m in {1000.0 * steps[jump]:.0f} ms",
                float(track.t[jump]),
                float(track.t[jump + 1]),
                "an odometry must not jump: use the one before anything corrects it",
            )
        )
    turn_rates = np.abs(wrap_angle(np.diff(track.poses[:, 2]))) / steps
    fast = (speeds > IMPOSSIBLE_SPEED * drive.top_speed) | (turn_rates > 2.0 * drive.top_turn_rate)
    fast[jumps] = False
    for begin, end in spans_of(track.t[1:][fast], apart=0.3, shortest=0.1):
        inside = (track.t[1:] >= begin) & (track.t[1:] <= end)
        findings.append(
            Finding(
                "serious",
                name,
                "impossible speed",
                f"up to {speeds[inside].max():.2f} m/s and "
                f"{turn_rates[inside].max():.2f} rad/s; the robot file says {drive.top_speed:g} m/s and "
                f"{drive.top_turn_rate:g} rad/s",
                float(begin),
                float(end),
                "check wheel_radius, track_width and ticks_per_turn in robot.toml, or the encoder's counter",
            )
        )
    return findings


def check_slip(
    wheels: Track, scans: Track | None, gyro: HeadingSource | None, *, doubtful: FloatArray, blind: FloatArray
) -> list[Finding]:
    """Find spans in which the wheels say another motion than the scans or the gyro.

    Parameters
    ----------
    wheels, scans : Track
        The body's motion by each, by one clock.
    gyro : HeadingSource, optional
        Its bias taken off.
    doubtful : array, (N, 2)
        Spans in which some stream is known to be wrong: nothing is compared there.
    blind : array, (M,)
        Stamps of scans that cannot tell the motion.
    """
    name = wheels.t[0], wheels.t[-1]
    t = np.arange(name[0] + SLIP_WINDOW / 2.0, name[1] - SLIP_WINDOW / 2.0, 0.05)
    rolled = _motion(wheels, t)
    ahead, turned = np.zeros(len(t)), np.zeros(len(t))
    if scans is not None:
        off = rolled - _motion(scans, t)
        seen = (t > scans.t[0] + SLIP_WINDOW) & (t < scans.t[-1] - SLIP_WINDOW)
        if len(blind):
            near = np.searchsorted(blind, t - SLIP_WINDOW) < np.searchsorted(blind, t + SLIP_WINDOW)
            seen &= ~near
        ahead, turned = np.where(seen, off[:, 0], 0.0), np.where(seen, wrap_angle(off[:, 2]), 0.0)
    if gyro is not None:
        inside = (t > gyro.t[0] + SLIP_WINDOW) & (t < gyro.t[-1] - SLIP_WINDOW)
        by_gyro = rolled[:, 2] - gyro.rates(t, SLIP_WINDOW) * SLIP_WINDOW
        turned = np.where(inside, wrap_angle(by_gyro), turned)
    slips = (np.abs(ahead) > SLIP_SPEED * SLIP_WINDOW) | (np.abs(turned) > SLIP_TURN_RATE * SLIP_WINDOW)
    slips &= ~inside_spans(t, doubtful, by=SLIP_WINDOW)
    findings = []
    for begin, end in spans_of(t[slips], apart=2.0, shortest=0.2):
        inside = (t >= begin - 0.1) & (t <= end + 0.1)
        metres, radians = ahead[inside].sum() * 0.05 / SLIP_WINDOW, turned[inside].sum() * 0.05 / SLIP_WINDOW
        if abs(metres) < LEAST_SLIP[0] and abs(radians) < LEAST_SLIP[1]:
            continue
        place = wheels.at([begin])[0]
        stands = (t >= begin) & (t <= max(end, begin + 2.0 * STANDS_FOR))
        rolls = np.hypot(*rolled[stands, :2].T) + np.abs(rolled[stands, 2]) > STANDS
        stand = end - begin > STANDS_FOR and np.mean(rolls) < ROLLS_SHARE
        than = "more than" if metres >= 0.0 else "less than"
        degrees = f"{round(np.degrees(radians)):+d} degrees"
        far = f"{abs(metres):.2f} m {than} the robot moves, and {degrees}"
        if scans is None:
            far = f"{degrees} beyond the gyro (how far they spun, only scans would tell)"
        findings.append(
            Finding(
                "serious",
                "wheels",
                "stand while the robot moves" if stand else "slip",
                f"the wheels turn {far}; from {place[0]:.1f}, {place[1]:.1f} by the wheels",
                float(begin),
                float(end),
                "look at the encoders and their cable, and whether the robot was pushed"
                if stand
                else "fuse with the IMU and the scans (`vinecompass fuse`), or drive slower there",
            )
        )
    return findings


def _motion(track: Track, t: FloatArray) -> FloatArray:
    """Return the motion ``(N, 3)`` within the window about each time, seen from the pose midway."""
    before, middle, after = (
        interpolate_poses(t + side * SLIP_WINDOW / 2.0, track.t, track.poses) for side in (-1.0, 0.0, 1.0)
    )
    motion = relative(after, middle) - relative(before, middle)
    motion[:, 2] = wrap_angle(motion[:, 2])
    return motion
