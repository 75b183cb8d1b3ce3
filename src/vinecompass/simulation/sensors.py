"""The sensors of a simulated robot: what each reads of the body's path, at its own rate, with its own noise."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import compose, interpolate_poses
from vinecompass.motion import steering_angle
from vinecompass.robot import Inertial, Lidar, Positioning, Robot
from vinecompass.runs import Imu, Positions, Scans, Wheels
from vinecompass.simulation.base import TIME_STEP, BasePath
from vinecompass.simulation.delivery import Delivery
from vinecompass.simulation.kernels import CREEPING
from vinecompass.simulation.ray_casting import cast_beams
from vinecompass.simulation.site import Site

__all__ = ["SimulatedImu", "SimulatedLidar", "SimulatedPositioning", "SimulatedWheels", "steps_between"]

FloatArray = NDArray[np.float64]


class SimulatedLidar:
    """Sweeps while the body moves; a scan is there when its last beam has fired, and some time more.

    Parameters
    ----------
    site : Site
    lidar : Lidar
    start : array, (3,)
        The body's pose at 0 s.
    rng : Generator
    """

    def __init__(self, site: Site, lidar: Lidar, start: FloatArray, rng: np.random.Generator) -> None:
        self._lidar = lidar
        self._rng = rng
        self.use(site)
        self._times, self._poses = np.zeros(1), np.array(start)[None]
        self._sweep = 0
        self._delivery = Delivery[Scans](lidar.delay, lidar.jitter, rng)

    def use(self, site: Site) -> None:
        """Go on in another site."""
        self._segments = site.segments
        shares = np.unique(site.lets_by[site.lets_by > 0.0])[::-1]
        self._glass = [(share, site.segments[site.lets_by < share]) for share in shares]

    def read(self, times: FloatArray, path: BasePath, people: FloatArray) -> Scans:
        """Follow the body through time steps that end at `times`; return the scans handed over meanwhile."""
        lidar = self._lidar
        self._times = np.concatenate([self._times, times])
        self._poses = np.vstack([self._poses, path.poses])
        begun: list[float] = []
        ranges: list[NDArray[np.float32]] = []
        while (begin := self._sweep / lidar.rate) + abs(lidar.sweep_seconds) <= times[-1] + 1e-9:
            begun.append(begin)
            ranges.append(self._scan(begin, people))
            self._sweep += 1
        kept = max(int(np.searchsorted(self._times, begin - 1e-9)) - 1, 0)
        self._times, self._poses = self._times[kept:], self._poses[kept:]
        stamps = np.array(begun)
        scans = Scans(stamps, np.reshape(np.array(ranges, np.float32), (len(begun), lidar.beams)))
        return self._delivery.hand_over(float(times[-1]), stamps + abs(lidar.sweep_seconds), scans)

    def _scan(self, t: float, people: FloatArray) -> NDArray[np.float32]:
        lidar = self._lidar
        fired_from = interpolate_poses(t + lidar.beam_delays, self._times, self._poses)
        ranges = cast_beams(self._segments, fired_from, lidar, people=people)
        for share, behind_it in self._glass:
            # Some of the beams see what lies behind the glass.
            behind = cast_beams(behind_it, fired_from, lidar, people=people)
            ranges = np.where(self._rng.random(lidar.beams) < share, behind, ranges)
        in_reach = np.isfinite(ranges)
        spread = lidar.range_noise + lidar.range_noise_per_metre * np.where(in_reach, ranges, 0.0)
        ranges = ranges + spread * self._rng.normal(size=lidar.beams)
        ranges[ranges > lidar.farthest] = np.inf
        ranges[(ranges < lidar.nearest) | (self._rng.random(lidar.beams) < lidar.dropout)] = np.nan
        return ranges.astype(np.float32)


class SimulatedWheels:
    """Encoders on the wheels, and the angle of a car's steered ones."""

    def __init__(self, robot: Robot, rng: np.random.Generator) -> None:
        self._drive = robot.drive
        self._every = steps_between(robot.wheels.rate)
        self._tick = 2.0 * np.pi / robot.wheels.ticks_per_turn
        self._steering = 0.0
        self._delivery = Delivery[Wheels](robot.wheels.delay, robot.wheels.jitter, rng)

    def read(self, times: FloatArray, path: BasePath) -> Wheels:
        """Return the readings handed over in time steps that end at `times`."""
        due = _due(times, self._every)
        t, angles = times[due], np.floor(path.angles[due] / self._tick) * self._tick
        return self._delivery.hand_over(float(times[-1]), t, Wheels(t, angles, self._steered(path.velocities[due])))

    def _steered(self, velocities: FloatArray) -> FloatArray | None:
        """Return the angle of the steered wheels at velocities ``(N, 3)``: as it stands, they stay as they are."""
        if not self._drive.steered:
            return None
        steering = steering_angle(self._drive, velocities)
        for i, speed in enumerate(np.abs(velocities[:, 0]).tolist()):
            if speed > CREEPING:
                self._steering = float(steering[i])
            steering[i] = self._steering
        return steering


class SimulatedImu:
    """Turn rate and accelerations, each the mean since the reading before."""

    def __init__(self, sensor: Inertial, rng: np.random.Generator) -> None:
        self._sensor = sensor
        self._rng = rng
        self._every = steps_between(sensor.rate)
        self._velocity = np.zeros(3)
        self._felt = np.zeros((3, 0))
        self._delivery = Delivery[Imu](sensor.delay, sensor.jitter, rng)

    def read(self, times: FloatArray, path: BasePath) -> Imu:
        """Return the readings handed over in time steps that end at `times`."""
        sensor, every = self._sensor, self._every
        felt = np.hstack([self._felt, self._truth(path)])
        due = _due(times, every)
        count = int(np.count_nonzero(due))
        means = felt[:, : count * every].reshape(3, count, every).mean(axis=2)
        self._felt = felt[:, count * every :]
        bias = np.array([[sensor.turn_rate_bias], [sensor.acceleration_bias[0]], [sensor.acceleration_bias[1]]])
        spread = np.array([[sensor.turn_rate_noise], [sensor.acceleration_noise], [sensor.acceleration_noise]])
        readings = means + bias + spread * self._rng.normal(size=means.shape)
        return self._delivery.hand_over(float(times[-1]), times[due], Imu(times[due], *readings))

    def _truth(self, path: BasePath) -> FloatArray:
        """Return what an ideal sensor would read in each time step ``(3, steps)``."""
        sensor = self._sensor
        ends = np.vstack([self._velocity, path.velocities])
        self._velocity = path.velocities[-1]
        speed, sideways, turn_rate = (0.5 * (ends[1:] + ends[:-1])).T
        change = (ends[1:] - ends[:-1]) / TIME_STEP
        x, y, heading = sensor.mount_pose
        # Off the body's origin the turning adds its own accelerations.
        ahead = change[:, 0] - sideways * turn_rate - turn_rate**2 * x - change[:, 2] * y
        left = change[:, 1] + speed * turn_rate + change[:, 2] * x - turn_rate**2 * y
        cosine, sine = np.cos(heading), np.sin(heading)
        along, across = cosine * ahead + sine * left, cosine * left - sine * ahead
        return np.stack([sensor.turn_rate_scale * turn_rate, along, across])


class SimulatedPositioning:
    """Fixes of where the antenna is in the site, at whole multiples of the sensor's own period."""

    def __init__(self, sensor: Positioning, rng: np.random.Generator) -> None:
        self._sensor = sensor
        self._rng = rng

    def read(self, times: FloatArray, path: BasePath) -> Positions:
        """Return the fixes of time steps that end at `times`, if any."""
        due = _due(times, steps_between(self._sensor.rate))
        antenna = compose(path.poses[due], [*self._sensor.mount, 0.0])[:, :2]
        x, y = (antenna + self._sensor.noise * self._rng.normal(size=antenna.shape)).T
        return Positions(times[due], x, y)


def steps_between(rate: float) -> int:
    """Return how many time steps lie between two readings of a sensor of some rate, Hz."""
    return max(round(1.0 / (rate * TIME_STEP)), 1)


def _due(times: FloatArray, every: int) -> NDArray[np.bool_]:
    """Return at which times ``(steps,)`` a sensor reads that does so every so many time steps since 0 s."""
    return np.asarray(np.round(times / TIME_STEP).astype(int) % every == 0)
