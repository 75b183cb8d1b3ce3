"""Records runs in the second world: a drive along a way, and what wheels, IMU and scanner make of it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import atan2, cos, hypot, sin
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray

from benchmarks.other_world.places import Place
from vinecompass import Robot, Run, Track
from vinecompass.robot import Lidar
from vinecompass.runs import Imu, Scans, Wheels

__all__ = ["RECORDERS", "Sensors", "draw_sensors", "record", "spun"]

FloatArray = NDArray[np.float64]
STEP = 0.005
"""Seconds between two poses of the truth."""
AHEAD = 0.5
"""Metres of the way to the point that it heads for."""
STANDS = 2.0
"""Seconds for which it stands at the beginning and at the end."""
WIDTH, RADIUS = 0.46, 0.09
"""Metres between the wheels, and their radius."""
RECORDERS = ("wide", "backwards", "coarse", "cheap")
"""Kinds of robots."""


@dataclass(frozen=True)
class Sensors:
    """What a robot's sensors are in truth, beside what its file says of them.

    Parameters
    ----------
    filed : Robot
    wheel_noise : float
        Standard deviation of each wheel's slip, a share of its speed, which lasts for some 0.4 s.
    wheel_errors : array, (2,)
        By what share each wheel turns too far, throughout.
    gyro_bias, gyro_walk, gyro_noise : float
        rad/s; rad/s per root of a second; rad/s of each reading.
    gyro_scale : float
    push_noise : float
        Of the accelerometer, m/s2.
    range_noise : float
        m; besides, a five-hundredth of the range.
    silent, stray : float
        Shares of beams that tell nothing, and anything.
    speed : float
        m/s.
    """

    filed: Robot
    wheel_noise: float
    wheel_errors: FloatArray
    gyro_bias: float
    gyro_walk: float
    gyro_noise: float
    gyro_scale: float
    push_noise: float
    range_noise: float
    silent: float
    stray: float
    speed: float


def draw_sensors(kind: str, rng: np.random.Generator) -> Sensors:
    """Draw a robot of a kind; noises are filed wrongly, by up to four times either way, or not at all."""
    half, beams, rate, farthest, mount = {
        "wide": (135.0, 541, 15.0, 25.0, (0.2, 0.0, 0.0)),
        "backwards": (180.0, 720, 8.0, 30.0, (-0.1, 0.05, 180.0)),
        "coarse": (120.0, 361, 12.0, 15.0, (0.25, 0.0, 0.0)),
        "cheap": (180.0, 360, 10.0, 12.0, (0.0, 0.0, 90.0)),
    }[kind]
    cheap = kind == "cheap"
    wheel_noise, gyro_noise, push_noise = rng.uniform(0.01, 0.015), rng.uniform(0.002, 0.006), rng.uniform(0.03, 0.1)

    def filed(value: float) -> float:
        return float(value * 4.0 ** rng.uniform(-1.0, 1.0))

    document: dict[str, Any] = {
        "name": kind,
        "body": {"outline": [[0.35, -0.28], [0.35, 0.28], [-0.35, 0.28], [-0.35, -0.28]]},
        "drive": {
            "kind": "differential",
            "track_width": WIDTH,
            "wheel_radius": RADIUS,
            "top_speed": 1.0,
            "reverse_speed": 0.4,
            "top_turn_rate": 1.5,
            "acceleration": 0.8,
            "braking": 1.0,
            "turn_acceleration": 2.5,
        },
        "lidar": [
            {
                "name": "scanner",
                "mount": mount,
                "first_beam_deg": -half + 360.0 / beams,
                "last_beam_deg": half,
                "beams": beams,
                "nearest": 0.1,
                "farthest": farthest,
                "rate": rate,
            }
        ],
        "wheels": {"ticks_per_turn": 1024},
        "imu": {},
    }
    if rng.random() < 0.5:
        document["imu"] = {"turn_rate_noise": filed(gyro_noise), "acceleration_noise": filed(push_noise)}
        document["wheels"]["slip"] = filed(wheel_noise)
    return Sensors(
        filed=Robot.model_validate(document),
        wheel_noise=wheel_noise,
        wheel_errors=rng.normal(0.0, 0.004, 2),
        gyro_bias=float(rng.normal(0.0, 0.01 if cheap else 0.003)),
        gyro_walk=2e-5,
        gyro_noise=gyro_noise,
        gyro_scale=1.0 + float(rng.normal(0.0, 0.01 if cheap else 0.003)),
        push_noise=push_noise,
        range_noise=0.02 if cheap else 0.01,
        silent=0.01,
        stray=0.003,
        speed=float(rng.uniform(0.5, 0.8)),
    )


def record(place: Place, sensors: Sensors, rng: np.random.Generator, *, stamped_late: float = 0.0) -> Run:
    """Drive along a place's way and return what was recorded, with the truth.

    All readings are stamped up to `stamped_late` seconds after they were taken, now more, now less.
    """
    t, poses, speeds, rates = _drive(place, sensors.speed)
    truth = Track(t[::4], np.column_stack([poses[::4, :2], np.angle(np.exp(1j * poses[::4, 2]))]))
    scans = _scans(place, sensors, t, poses, rng)
    wheels = _wheels(sensors, t, speeds, rates, rng)
    imu = _imu(sensors, t, speeds, rates, rng)
    run = Run(robot=sensors.filed, start=poses[0], scans=scans, wheels=wheels, imu=imu, truth=truth)
    if stamped_late == 0.0:
        return run
    late: dict[str, Any] = {
        name: replace(stream, t=stream.t + rng.uniform(0.0, stamped_late, len(stream.t)))
        for name, stream in run.streams().items()
        if name != "truth"
    }
    return replace(run, **late)


def _drive(place: Place, speed: float) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
    """Return stamps, poses (headings run on), speeds and turn rates along the way, which begins and ends standing.

    It heads for a point of the way a little ahead, slower the farther that lies to a side.
    """
    line = shapely.LineString(place.way)
    metres = np.arange(0.0, line.length + AHEAD, 0.05)
    points = shapely.get_coordinates(shapely.line_interpolate_point(line, metres)).tolist()
    first = np.diff(place.way[:2], axis=0)[0]
    x, y = place.way[0].tolist()
    heading, pace, rate = atan2(first[1], first[0]), 0.0, 0.0
    target = 0
    rows: list[tuple[float, ...]] = []
    for step in range(10**6):
        while target < len(points) - 1 and hypot(points[target][0] - x, points[target][1] - y) < AHEAD:
            target += 1
        left = line.length - 0.05 * target + AHEAD
        off = atan2(points[target][1] - y, points[target][0] - x) - heading
        off = atan2(sin(off), cos(off))
        over = target == len(points) - 1 and hypot(points[target][0] - x, points[target][1] - y) < 0.1
        moves = step > STANDS / STEP and not over
        wanted = min(speed * max(cos(off), 0.0) ** 3, 0.5 * left + 0.05) if moves else 0.0
        turn = min(max(2.0 * off, -0.8), 0.8) if moves else 0.0
        pace += min(max(wanted - pace, -0.6 * STEP), 0.5 * STEP)
        rate += min(max(turn - rate, -2.0 * STEP), 2.0 * STEP)
        rows.append((step * STEP, x, y, heading, pace, rate))
        middle = heading + 0.5 * rate * STEP
        x, y, heading = x + pace * STEP * cos(middle), y + pace * STEP * sin(middle), heading + rate * STEP
        if over and pace == 0.0 and rate == 0.0:
            break
    rows += [(rows[-1][0] + STEP * k, *rows[-1][1:]) for k in range(1, int(STANDS / STEP))]
    table = np.array(rows)
    return table[:, 0], table[:, 1:4], table[:, 4], table[:, 5]


def _wheels(s: Sensors, t: FloatArray, speeds: FloatArray, rates: FloatArray, rng: np.random.Generator) -> Wheels:
    """Return the wheels' angles at 50 Hz, in whole ticks."""
    rims = np.column_stack([speeds - 0.5 * WIDTH * rates, speeds + 0.5 * WIDTH * rates])
    kept = np.exp(-STEP / 0.4)
    slips = np.zeros_like(rims)
    for k, push in enumerate(rng.normal(0.0, np.sqrt(1.0 - kept**2), rims.shape)[1:]):
        slips[k + 1] = kept * slips[k] + push
    angles = np.cumsum(rims * (1.0 + s.wheel_errors + s.wheel_noise * slips), axis=0) * STEP / RADIUS
    tick = 2.0 * np.pi / s.filed.wheels.ticks_per_turn
    return Wheels(t[::4], np.floor(angles[::4] / tick) * tick)


def _imu(s: Sensors, t: FloatArray, speeds: FloatArray, rates: FloatArray, rng: np.random.Generator) -> Imu:
    """Return the IMU's readings at 100 Hz."""
    stamps, turning, pace = t[::2], rates[::2], speeds[::2]
    count = len(stamps)
    bias = s.gyro_bias + np.cumsum(rng.normal(0.0, s.gyro_walk * np.sqrt(0.01), count))
    read = s.gyro_scale * turning + bias + rng.normal(0.0, s.gyro_noise, count)
    ahead = np.gradient(pace, 0.01) + 0.03 + rng.normal(0.0, s.push_noise, count)
    left = pace * turning - 0.02 + rng.normal(0.0, s.push_noise, count)
    return Imu(stamps, read, ahead, left)


def _scans(place: Place, s: Sensors, t: FloatArray, poses: FloatArray, rng: np.random.Generator) -> Scans:
    """Return the scans: each beam from where the body is when it is fired."""
    lidar, segments = s.filed.scanner, place.segments
    stamps = np.arange(0.3, t[-1] - 0.3, 1.0 / lidar.rate)
    ranges = np.empty((len(stamps), lidar.beams), np.float32)
    mount, delays = lidar.mount_pose, spun(lidar)
    for i, stamp in enumerate(stamps):
        fired = stamp + delays
        first, last = np.searchsorted(t, [fired.min() - 2.0 * STEP, fired.max() + 2.0 * STEP])
        x, y, heading = (np.interp(fired, t[first:last], values) for values in poses[first:last].T)
        c, sine = np.cos(heading), np.sin(heading)
        eyes = np.column_stack([x + c * mount[0] - sine * mount[1], y + sine * mount[0] + c * mount[1]])
        ranges[i] = cast(segments, eyes, heading + mount[2] + lidar.beam_angles, lidar.farthest)
    true = ranges.copy()
    ranges += rng.normal(0.0, 1.0, ranges.shape) * (s.range_noise + 0.002 * np.minimum(true, 50.0))
    ranges[(true >= lidar.farthest) | (ranges > lidar.farthest)] = np.inf
    stray, silent = rng.random((2, *ranges.shape))
    ranges = np.where(stray < s.stray, rng.uniform(lidar.nearest, lidar.farthest, ranges.shape), ranges)
    ranges = np.where(silent < s.silent, np.inf, ranges)
    ranges[ranges < lidar.nearest] = np.nan
    return Scans(stamps, ranges.astype(np.float32))


def spun(lidar: Lidar) -> FloatArray:
    """Return how long after the first each beam ``(B,)`` is fired by a scanner that spins evenly, s."""
    turn = abs(lidar.last_beam_deg - lidar.first_beam_deg) / 360.0
    return np.linspace(0.0, turn / lidar.rate, lidar.beams)


def cast(segments: FloatArray, eyes: FloatArray, angles: FloatArray, farthest: float) -> FloatArray:
    """Return how far beams go ``(N,)`` from their eyes ``(N, 2)``, m, until they meet a segment ``(S, 4)``."""
    low, high = eyes.min(axis=0) - farthest, eyes.max(axis=0) + farthest
    near = (
        (np.maximum(segments[:, 0], segments[:, 2]) >= low[0])
        & (np.minimum(segments[:, 0], segments[:, 2]) <= high[0])
        & (np.maximum(segments[:, 1], segments[:, 3]) >= low[1])
        & (np.minimum(segments[:, 1], segments[:, 3]) <= high[1])
    )
    a, edges = segments[near, :2], segments[near, 2:] - segments[near, :2]
    dx, dy = np.cos(angles)[:, None], np.sin(angles)[:, None]
    across = dx * edges[:, 1] - dy * edges[:, 0]
    to_x, to_y = a[:, 0] - eyes[:, :1], a[:, 1] - eyes[:, 1:]
    with np.errstate(divide="ignore", invalid="ignore"):
        along = (to_x * edges[:, 1] - to_y * edges[:, 0]) / across
        share = (to_x * dy - to_y * dx) / across
    # A hair wider than the segment, so that no beam slips through between two.
    hit = (along > 0.0) & (share > -1e-9) & (share < 1.0 + 1e-9)
    return np.where(hit, along, np.inf).min(axis=1, initial=np.inf)
