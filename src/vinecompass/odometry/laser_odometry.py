"""Laser odometry: the robot's motion from its scans alone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from math import cos, sin

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.geometry import arc, arc_velocity, compose, compose_covariances, relative
from vinecompass.geometry.kernels import ONE_SPOT_REACH, ONE_SPOT_SHARE, heaviest_share
from vinecompass.odometry.kernels import align_scan, fit_lines, straighten
from vinecompass.robot import Lidar
from vinecompass.runs import Run, Scan, Track
from vinecompass.runs.order import inside_spans

__all__ = ["LaserOdometry", "ScanMotion", "laser_track", "track_of"]

FloatArray = NDArray[np.float64]

REFERENCE_DISTANCE, REFERENCE_TURN = 0.5, np.radians(20.0)
"""Metres and radians from the reference scan after which the current one takes its place."""
FEWEST_POINTS, LEAST_ON_LINES = 30, 0.4
"""Points a scan must have, and the share of them that must find a line, for a match to be believed."""
UNSEEN_FOR = 1.0
"""Seconds without a scan after which it is not compared with the one before, where others tell the motion."""
MOST_POINTS, MOST_ITERATIONS = 450, 12
LOOKS_OTHERWISE = 0.75
"""Times the share of points that the first scan after a reference matched below which another takes its place."""
HARDEST = 1.5
"""m/s2: a single spot that leads the robot to speed up harder is someone who walks off."""
APART = 0.05
"""Metres between points from which they count in full: a person close by takes up a third of the beams."""
LINE_REACH, LONGER = 0.2, 1.5
"""Metres about a point within which its neighbours make its line, and times as far if they lie on one there, too."""
SCATTER = 0.04
"""Metres off a line at which a point counts half."""
SPEED_CHANGE, TURN_RATE_CHANGE = 0.15, 0.4
"""Metres a second and radians a second by which the velocity may change from one scan to the next."""
JOLT, TURN_JOLT = 0.003, 0.002
"""Metres and radians by which a scan's pose may miss the one that an even change of velocity would lead to. Two scans
straightened with the same wrong turn rate fit each other perfectly: only the way turned tells that it is wrong."""
PLAINEST = 0.012
"""Share of the points' information that the direction seen least must have; below, the place is degenerate there."""
PLAIN_BELOW = 0.07
"""Below this share, a direction counts as plain too if it hangs on one spot: that may be one person walking by, and a
robot must not take another's walk for its own."""
LEAST_SCATTER = 0.005
"""Metres off their lines that points are taken to be at least."""
WELL_SHOWN, MOST_DOUBT = 0.2, 12.0
"""Share of the points' information from which a direction is as well known as the points' number says; below, it hangs
on few things, whose points err alike, and its variance is so many times as large, up to the second."""
TOLD_CHANGE, TOLD_JOLT = 0.002, 0.01
"""As `TURN_RATE_CHANGE` and `TURN_JOLT` where a gyro tells how the robot turns: the rate is the gyro's, but how far the
robot turned is for the scans to say."""
LEFT_OPEN = 1.0
"""Standard deviation, m (and rad), of what a degenerate place leaves open."""


@dataclass(frozen=True)
class ScanMotion:
    """What one scan says about the body's motion.

    Parameters
    ----------
    t : float
        The scan's stamp, s.
    pose : array, (3,)
        The body's pose in the track frame, m and radians.
    velocity : array, (3,)
        Its speed ahead and to the left, m/s, and turn rate, rad/s, during the sweep.
    since_reference : array, (3,)
        Its pose seen from its pose at the reference scan.
    covariance : array, (3, 3)
        Of `since_reference`.
    matched_share : float
        Share of the points that lie by a line of the reference scan, 0 to 1.
    degenerate : array, (2,), or None
        The direction ahead and to the left, of length 1, in which the scan cannot tell the motion (along a plain
        aisle); 0, 0 if it tells nothing at all, or not the turning. There the motion is the former one, kept up.
    is_reference : bool
        Whether this scan is the reference from now on.
    """

    t: float
    pose: FloatArray
    velocity: FloatArray
    since_reference: FloatArray
    covariance: FloatArray
    matched_share: float
    degenerate: FloatArray | None
    is_reference: bool


@dataclass(frozen=True)
class _Reference:
    """The scan that others are aligned to: its points by bearing and the lines through them, in the sensor's frame."""

    points: FloatArray
    bearings: FloatArray
    lines: FloatArray


class LaserOdometry:
    """Motion from scans alone, one scan at a time, for robots without wheels to trust.

    Each scan is straightened by the velocity so far and aligned, points to lines, to a reference scan half a metre
    behind at most; the velocity during the sweep is fitted with the pose.

    Parameters
    ----------
    lidar : Lidar
    mount : array_like, (3,), optional
        The sensor's pose in the body frame, m and radians; the robot file's if not given. All work is done in the
        sensor's frame and carried to the body in the end, so that a scanner off the axle, which a turning robot
        gives a sideways speed, does no harm.

    Attributes
    ----------
    pose : array, (3,)
        The body's pose in the track frame, which begins where the first scan was taken.

    Notes
    -----
    Point-to-line alignment after Censi (2008), "An ICP variant using a point-to-line metric"; degenerate directions
    after Zhang, Kaess and Singh (2016), "On degeneracy of optimization-based state estimation problems".

    Examples
    --------
    >>> from vinecompass import Command, Simulator, demo_file, read_robot, read_site
    >>> robot = read_robot(demo_file("robot.toml"))
    >>> simulator = Simulator(read_site(demo_file("site.toml")), robot, seed=1)
    >>> laser = LaserOdometry(robot.scanner)
    >>> for _ in range(21):
    ...     for scan in simulator.step(Command(speed=0.5)).scans:
    ...         motion = laser.update(scan)
    >>> bool(abs(motion.pose[0] - 0.7) < 0.03)
    True
    """

    @checked
    def __init__(self, lidar: Lidar, *, mount: ArrayLike | None = None) -> None:
        self._lidar = lidar
        self._mount = lidar.mount_pose if mount is None else np.asarray(mount, dtype=float)
        self._beam_step = abs(lidar.beam_angles[1] - lidar.beam_angles[0])
        self._reference: _Reference | None = None
        self._reference_pose = np.zeros(3)
        self._first_share = 0.0
        self._since = np.zeros(3)
        self._velocity = np.zeros(3)
        self._turn_acceleration = 0.0
        self._degenerate: FloatArray | None = None
        self._t = -np.inf
        self.pose = np.zeros(3)

    def update(
        self,
        scan: Scan,
        *,
        velocity: ArrayLike | None = None,
        turn_rate: float | None = None,
        turn_acceleration: float = 0.0,
    ) -> ScanMotion:
        """Take in one scan and return the motion up to its stamp.

        A velocity ``(3,)`` that others tell, m/s ahead and to the left and rad/s, leads where the scan before could
        not tell the motion, and alone over a pause so long that the scan before need not look alike; without one the
        former motion is kept up there. A mean turn rate during the sweep, rad/s, says how a robot with a gyro turned,
        as the velocity's then does up to the stamp, and how it changed meanwhile, rad/s2; without them the sweep's own
        shape does, which tells a turn only after it has begun.
        """
        if np.shape(scan.ranges) != (self._lidar.beams,):
            raise InputError(
                "is another lidar's", key="scan", value=np.shape(scan.ranges), expected=f"{self._lidar.beams} ranges"
            )
        elapsed = scan.t - self._t
        self._t = scan.t
        told = None if velocity is None else np.asarray(velocity, dtype=float)
        unseen = told is not None and UNSEEN_FOR < elapsed < np.inf
        if unseen:
            self._degenerate = np.zeros(2)
        if told is not None:
            self._follow(told)
        until_now = self._velocity.copy()
        self._turn_acceleration = turn_acceleration
        if turn_rate is not None:
            self._velocity[2] = turn_rate
            until_now[2] = until_now[2] if told is None else told[2]
        points, delays = self._straightened(scan)
        since, covariance, share, degenerate = np.zeros(3), np.zeros((3, 3)), 0.0, None
        if self._reference is not None:
            first = compose(self._since, arc(until_now, elapsed))
            prior = _motion_prior(first[2], elapsed, turns_told=turn_rate is not None)
            if len(points) >= FEWEST_POINTS and not unseen:
                since, covariance, share, degenerate = self._align(
                    self._reference, points, delays, first, prior, elapsed
                )
            if share < LEAST_ON_LINES:
                since, covariance, degenerate = first, LEFT_OPEN**2 * np.eye(3), np.zeros(2)
        moved_on = np.hypot(since[0], since[1]) > REFERENCE_DISTANCE or abs(since[2]) > REFERENCE_TURN
        looks_otherwise = share < max(LOOKS_OTHERWISE * self._first_share, LEAST_ON_LINES)
        is_reference = len(points) >= FEWEST_POINTS and (self._reference is None or bool(moved_on) or looks_otherwise)
        if self._reference is not None and self._first_share == 0.0:
            self._first_share = share
        motion = self._report(scan.t, since, covariance, share, degenerate, is_reference)
        self._since, self._degenerate = since, degenerate
        if is_reference:
            self._reference = self._make_reference(self._straightened(scan)[0])
            self._reference_pose = motion.pose
            self._since = np.zeros(3)
            self._first_share = 0.0
        return motion

    def _follow(self, velocity: FloatArray) -> None:
        """Take over what others say of the body's velocity in the direction that the scan before left open."""
        if self._degenerate is None:
            return
        x, y, mounted = self._mount.tolist()
        cosine, sine = cos(mounted), sin(mounted)
        into_sensor = np.array([[cosine, sine], [-sine, cosine]])
        told = np.append(into_sensor @ (velocity[:2] + velocity[2] * np.array([-y, x])), velocity[2])
        direction = into_sensor @ self._degenerate
        if np.any(direction):
            self._velocity[:2] += direction * (direction @ (told - self._velocity)[:2])
        else:
            self._velocity = told

    def _straightened(self, scan: Scan) -> tuple[FloatArray, FloatArray]:
        """Return what the beams hit and how long after the stamp, as the velocity known by now has it."""
        lidar = self._lidar
        return straighten(
            scan.ranges,
            lidar.returned(scan.ranges),
            lidar.beam_angles,
            lidar.beam_delays,
            self._velocity,
            self._turn_acceleration,
            1.0 / lidar.rate,
        )

    def _align(
        self,
        reference: _Reference,
        points: FloatArray,
        delays: FloatArray,
        since: FloatArray,
        prior: FloatArray,
        elapsed: float,
    ) -> tuple[FloatArray, FloatArray, float, FloatArray | None]:
        """Return the pose since the reference, its covariance, the share matched and the degenerate direction."""
        every = -(-len(points) // MOST_POINTS)
        points = np.ascontiguousarray(points[::every])
        delays = np.ascontiguousarray(delays[::every])
        trust = _trust(points)
        start = np.concatenate([since, np.zeros(3)])

        def aligned() -> tuple[FloatArray, FloatArray, FloatArray, float, float, NDArray[np.int64]]:
            return align_scan(
                reference.points,
                reference.bearings,
                reference.lines,
                points,
                delays,
                trust,
                start,
                prior,
                SCATTER,
                MOST_ITERATIONS,
            )

        solution, information, made_up, mean_square, weights, partners = aligned()
        # In metres, a turn moves points by their distance: so the three directions can be compared.
        scale = np.array([1.0, 1.0, 1.0 / max(float(np.sqrt(np.mean(points**2) * 2.0)), 0.5)])
        shares, directions = np.linalg.eigh((information - made_up) * np.outer(scale, scale) / max(weights, 1.0))
        plain = shares < PLAINEST
        held = plain.copy()
        leaps = float(np.hypot(*(solution[:2] - since[:2]))) > HARDEST * elapsed**2
        if PLAINEST < shares[0] < PLAIN_BELOW:
            found = partners[partners >= 0]
            shown = trust[partners >= 0] * (reference.lines[found, 2:4] @ directions[:2, 0]) ** 2
            plain[0] = heaviest_share(reference.points[found], shown, ONE_SPOT_REACH) > ONE_SPOT_SHARE
            held[0] = plain[0] and leaps
        degenerate = None
        if np.any(held):
            prior[:3, :3] += 1e6 * (directions[:, held] @ directions[:, held].T) / np.outer(scale, scale)
            solution, information, _, mean_square, weights, partners = aligned()
        if np.any(plain):
            # What a single spot shows is followed while it does not walk off; but nobody else need believe it.
            degenerate = self._in_body(solution[:3], directions[:2, plain])
        # What the priors hold on to is unknown; the velocity's doubt goes into the pose by way of the sweep.
        spread = max(mean_square, LEAST_SCATTER**2) * np.linalg.inv(information + 1e-3 * np.eye(3))
        doubts = np.sqrt(np.clip(WELL_SHOWN / np.maximum(shares, 1e-6), 1.0, MOST_DOUBT))
        doubted = (directions * doubts) @ directions.T * (scale[:, None] / scale[None, :])
        spread = doubted @ spread @ doubted.T + np.diag([1e-6, 1e-6, 1e-7])
        if np.any(plain):
            spread += LEFT_OPEN**2 * (directions[:, plain] @ directions[:, plain].T) * np.outer(scale, scale)
        self._velocity = self._velocity + solution[3:]
        return solution[:3], spread.astype(np.float64), float(np.mean(partners >= 0)), degenerate

    def _in_body(self, since: FloatArray, directions: FloatArray) -> FloatArray:
        """Return the one direction, given in the reference sensor's frame, in the body's; 0, 0 if there are more."""
        if directions.shape[1] != 1 or np.hypot(*directions[:, 0]) < 0.5:
            return np.zeros(2)
        angle = np.arctan2(*directions[::-1, 0]) - since[2] + self._mount[2]
        return np.array([np.cos(angle), np.sin(angle)])

    def _report(
        self,
        t: float,
        since: FloatArray,
        covariance: FloatArray,
        share: float,
        degenerate: FloatArray | None,
        is_reference: bool,
    ) -> ScanMotion:
        """Carry a motion of the sensor to the body."""
        (x, y, mounted), turned = self._mount.tolist(), float(since[2])
        cosine, sine = cos(turned), sin(turned)
        # The lever arm: what the sensor sees as a turn moves the body's origin sideways.
        carry = np.array(
            [
                [cos(mounted), -sin(mounted), sine * x + cosine * y],
                [sin(mounted), cos(mounted), sine * y - cosine * x],
                [0.0, 0.0, 1.0],
            ]
        )
        body_since = np.array([x - cosine * x + sine * y, y - sine * x - cosine * y, turned])
        body_since[:2] += carry[:2, :2] @ since[:2]
        self.pose = compose(self._reference_pose, body_since)
        velocity = np.append(carry[:2, :2] @ self._velocity[:2], self._velocity[2])
        velocity[:2] += velocity[2] * np.array([y, -x])
        return ScanMotion(
            t=t,
            pose=self.pose,
            velocity=velocity,
            since_reference=body_since,
            covariance=carry @ covariance @ carry.T,
            matched_share=share,
            degenerate=degenerate,
            is_reference=is_reference,
        )

    def _make_reference(self, points: FloatArray) -> _Reference:
        bearings = np.arctan2(points[:, 1], points[:, 0])
        order = np.argsort(bearings, kind="stable")
        points = np.ascontiguousarray(points[order])
        reaches = np.maximum(LINE_REACH, 2.5 * self._beam_step * np.hypot(*points.T))
        return _Reference(points, bearings[order], fit_lines(points, reaches, LONGER))


def _trust(points: FloatArray) -> FloatArray:
    """Return what points ``(N, 2)`` count, 0 to 1: the less, the closer they lie to the next."""
    spacing = np.hypot(*np.diff(points, axis=0, append=points[-1:]).T)
    return np.minimum(np.minimum(spacing, np.roll(spacing, 1)) / APART, 1.0)


def _motion_prior(heading: float, elapsed: float, *, turns_told: bool) -> FloatArray:
    """Return the information ``(6, 6)`` on pose and change of velocity, in units of one point 0.02 m off its line."""
    cosine, sine = np.cos(heading), np.sin(heading)
    # Half of a change of velocity has already shown in the pose.
    shown = 0.5 * elapsed * np.array([[cosine, -sine, 0.0], [sine, cosine, 0.0], [0.0, 0.0, 1.0]])
    turn_jolt, turn_change = (TOLD_JOLT, TOLD_CHANGE) if turns_told else (TURN_JOLT, TURN_RATE_CHANGE)
    link = np.hstack([np.eye(3), -shown]) * (0.02 / np.array([JOLT, JOLT, turn_jolt]))[:, None]
    doubt = np.array([SPEED_CHANGE, SPEED_CHANGE, turn_change])
    return link.T @ link + np.diag(np.concatenate([np.full(3, 1e-6), (0.02 / doubt) ** 2]))


def laser_track(
    run: Run,
    *,
    mount: ArrayLike | None = None,
    led_by: Track | None = None,
    turns_told: bool = False,
    untold: ArrayLike = (),
    progress: Callable[[float, str], None] | None = None,
) -> tuple[Track, list[ScanMotion]]:
    """Return the track of a run's scans, `LaserOdometry.update` over them, and what each scan said.

    The track begins at the origin. Another's track leads where scans cannot tell the motion; with `turns_told` it is
    believed, too, in how the robot turned during each sweep, as one is that a gyro is part of. In the spans ``(N, 2)``
    `untold`, s, it does not tell how the robot went, only how it turned.
    """
    scans = run.need_scans()
    laser = LaserOdometry(run.robot.scanner, mount=mount)
    velocities: list[FloatArray | None] = [None] * len(scans)
    turns: list[tuple[float | None, float]] = [(None, 0.0)] * len(scans)
    period = 1.0 / run.robot.scanner.rate
    if led_by is not None:
        velocities = _velocities(led_by, np.append(scans.t[0] - period, scans.t[:-1]), scans.t)
    if led_by is not None and turns_told:
        half = 0.5 * period
        first, second = (_velocities(led_by, begin, begin + half) for begin in (scans.t, scans.t + half))
        turns = [
            (None, 0.0)
            if until is None or early is None or late is None
            else (0.5 * float(early[2] + late[2]), float(late[2] - early[2]) / half)
            for until, early, late in zip(velocities, first, second, strict=True)
        ]
    aside = inside_spans(scans.t, untold)
    velocities = [None if left_out else told for left_out, told in zip(aside, velocities, strict=True)]
    motions = []
    for i, scan in enumerate(scans):
        rate, change = turns[i]
        motions.append(laser.update(scan, velocity=velocities[i], turn_rate=rate, turn_acceleration=change))
        if progress and i % 100 == 0:
            progress(i / len(scans), "laser odometry")
    return track_of(motions), motions


def track_of(motions: list[ScanMotion]) -> Track:
    """Return the track that scans tell; its covariances grow from reference scan to reference scan."""
    poses = np.array([motion.pose for motion in motions])
    return Track(np.array([motion.t for motion in motions]), poses, _accumulated(motions))


def _velocities(track: Track, first: FloatArray, last: FloatArray) -> list[FloatArray | None]:
    """Return a track's mean velocities ``(3,)`` from some stamps ``(N,)`` to others, where it has both."""
    ways = arc_velocity(relative(track.at(last), track.at(first))) / (last - first)[:, None]
    has = (first >= track.t[0]) & (last <= track.t[-1])
    return [way if known else None for way, known in zip(ways, has, strict=True)]


def _accumulated(motions: list[ScanMotion]) -> FloatArray:
    """Compound the covariances of motions that follow one another."""
    reference_pose, reference_covariance = np.zeros(3), np.zeros((3, 3))
    covariances = np.empty((len(motions), 3, 3))
    for i, motion in enumerate(motions):
        step = relative(motion.pose, reference_pose)
        covariances[i] = compose_covariances(reference_pose, step, reference_covariance, motion.covariance)
        if motion.is_reference:
            reference_pose, reference_covariance = motion.pose, covariances[i]
    return covariances
