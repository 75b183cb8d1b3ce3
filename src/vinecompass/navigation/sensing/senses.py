"""From scan, odometry and people to a situation: localized, priced, and remembered."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from vinecompass.contact import Walking
from vinecompass.costs import Layer, LiveCosts
from vinecompass.geometry import arc_velocity, compose, inverse, relative, transform_points
from vinecompass.grids import Beams, Grid, Zone
from vinecompass.localization import Estimate, ParticleLocalizer, SecondOpinion
from vinecompass.motion import Command
from vinecompass.navigation.input_watch import Watched
from vinecompass.navigation.mission.mission_log import MissionLog, Notice
from vinecompass.navigation.sensing.base_watch import BaseWatch
from vinecompass.navigation.sensing.carried import CarriedWatch
from vinecompass.navigation.sensing.command_delay import CommandDelay
from vinecompass.navigation.sensing.moving_things import MovingThings
from vinecompass.navigation.sensing.near_of_late import NearOfLate
from vinecompass.navigation.sensing.outside_localization import OutsideLocalization
from vinecompass.navigation.sensing.seen_before import SeenBefore
from vinecompass.navigation.sensing.seen_floor import SeenFloor
from vinecompass.navigation.sensing.silent_beams import SilentBeams
from vinecompass.navigation.sensing.situation import Situation
from vinecompass.odometry import SweepMotion, believed_ranges, motion_at, straightened_beams
from vinecompass.robot import Robot
from vinecompass.runs import Scan, Track
from vinecompass.settings import Settings

__all__ = ["Senses"]

FloatArray = NDArray[np.float64]
PEOPLE_PERIOD = 0.3
"""Seconds after which the floor about people is priced anew, for global plans: local ones see people at once."""
VELOCITY_SPAN = 0.1
"""Seconds of odometry over which the body's velocity is measured."""
UNAWARE = 0.3
"""Seconds for which the robot goes on before it brakes: a sweep, and a cycle of the loop."""
BACKS_WITHIN = 3.0
"""Metres about the robot in which a plan may back over floor that was seen only: farther on, it will have come by."""
ONE_PLACE = 2.0
"""Metres within which things that are gone are told of as one."""


class Senses:
    """Takes in what was read in each step.

    Parameters
    ----------
    grid : Grid
    robot : Robot
    initial_pose : array, (3,), or None
        None: it is looked for on the whole map.
    zones : sequence of Zone
    layers : sequence of Layer
        Of the costmap, besides the usual ones.
    settings : Settings
    seed : int
    log : MissionLog
        Where it notes what it finds out about the site.

    Attributes
    ----------
    costs : LiveCosts
    base : BaseWatch
        What was found out about the base.
    """

    def __init__(
        self,
        grid: Grid,
        robot: Robot,
        initial_pose: FloatArray | None,
        *,
        zones: Sequence[Zone],
        layers: Sequence[Layer],
        settings: Settings,
        seed: int,
        log: MissionLog,
    ) -> None:
        self._log = log
        self._grid = grid
        self._robot = robot
        self._lidar = robot.scanner
        self._settings = settings
        self._seed = seed
        self._zones = zones
        self._layers = layers
        self._localizer = self._localizer_from(initial_pose)
        self._outside: OutsideLocalization | None = None
        self._before = SeenBefore(robot)
        self._of_late = NearOfLate(robot)
        self._moving = MovingThings()
        self._floor = SeenFloor(robot)
        self._silent = SilentBeams(self._lidar)
        self._told_silent = False
        self._put_down = True
        self._belief_began: float | None = None
        self._carried = CarriedWatch()
        self._people_near = False
        self._met = -np.inf
        self._delay = CommandDelay(robot.drive.delay + robot.drive.lag)
        self._seen: _Seen | None = None
        self.base = BaseWatch()
        self._told_gone: list[FloatArray] = []
        self._told_opinion: SecondOpinion | None = None
        self.costs = self._costs_anew()

    @property
    def particles(self) -> FloatArray:
        """The particles ``(N, 3)`` in the site frame."""
        return self._localizer.particles

    def find_myself(self) -> None:
        """Start localization over, from anywhere on the map."""
        self._localizer = self._localizer_from(None)

    def use(self, grid: Grid | None, zones: Sequence[Zone] | None, pose: FloatArray) -> None:
        """Go on with another map, where the robot is at a pose ``(3,)``, or with other zones."""
        if grid is not None:
            self._grid = grid
            self.relocate(pose)
        self._zones = self._zones if zones is None else zones
        self._price_anew()

    def tune(self, settings: Settings) -> None:
        """Price the floor by other settings."""
        self._settings = settings
        self._price_anew()

    def _price_anew(self) -> None:
        self.costs = self._costs_anew()
        self._met = -np.inf

    def applied(self, command: Command) -> None:
        """Note what the base made of the last command."""
        self._delay.applied(command)

    def relocate(self, pose: FloatArray) -> None:
        """Start localization over from a pose ``(3,)`` that is told from outside."""
        self._localizer = self._localizer_from(pose)

    @property
    def second_opinion(self) -> SecondOpinion | None:
        """On the pose that it was told last, once a scan has said anything."""
        return self._localizer.second_opinion

    @property
    def seen(self) -> FloatArray:
        """What the last scan hit ``(N, 2)``, in the site frame, m."""
        if self._seen is None:
            return np.zeros((0, 2))
        return transform_points(self._seen.estimate.pose, self._seen.beams.hits)

    def tell(self, t: float, pose: FloatArray, odometry: FloatArray) -> None:
        """Take a pose ``(3,)`` from outside, from now on in place of our own localization; see `Navigator.step`."""
        if self._outside is None:
            self._outside = OutsideLocalization()
        self._outside.tell(t, pose, odometry)

    def take(self, came: Watched, people: Sequence[Walking], command: Command) -> Situation:
        """Localize, price the floor and remember what is out of sight; see `Navigator.step`."""
        scan, odometry = came.scan, came.odometry
        assert scan is not None and odometry is not None
        if self._seen is None or self._seen.scan.t != scan.t:
            self._seen = self._look(scan, odometry, people)
        estimate = self._seen.estimate
        since_scan = relative(odometry.poses[-1], self._seen.motion.pose)
        points = transform_points(inverse(since_scan), self._seen.beams.hits)
        hidden = self._before.add(came.t, odometry.poses[-1], points)
        of_late = self._of_late.add(scan.t, odometry.poses[-1], points, command)
        self._floor.stand(came.t, odometry.poses[-1])
        pose = compose(estimate.pose, since_scan)
        moving = self._moving_ahead(came.t, pose, odometry.poses[-1], people, command)
        measured, span = _velocity(odometry)
        if span > 0.0:
            self._delay.observe(float(odometry.t[-1]), came.elapsed, measured, span)
            middle = float(odometry.t[-1]) - 0.5 * span
            in_force, known = self._delay.in_force(middle), self._delay.known
            self._notice(came.t, self.base.drive(came.t, came.elapsed, in_force, measured, delay_known=known))
        way = self._delay.way(came.t)
        return Situation(
            t=came.t,
            elapsed=came.elapsed,
            pose=pose,
            ahead=compose(pose, way),
            estimate=estimate,
            floor=self.costs.costmap,
            people=people,
            people_near=self._people_near,
            points=transform_points(inverse(way), np.vstack([points, hidden, of_late, moving])),
            unseen=partial(self._floor.unseen, came.t, odometry.poses[-1], way),
            hidden=partial(self._hidden, came.t, odometry.poses[-1], pose),
            telling_drive=self._localizer.telling_drive,
            command=command,
            measured=measured,
        )

    def sent(self, t: float, command: Command) -> None:
        """Note the command that was given at a time, s."""
        self._delay.sent(t, command)

    def _hidden(self, t: float, odometry: FloatArray, pose: FloatArray) -> FloatArray:
        """Return points ``(N, 2)`` all over the floor about a pose ``(3,)`` that was not seen, in the site frame."""
        return transform_points(compose(pose, inverse(odometry)), self._floor.hidden(t, odometry, BACKS_WITHIN))

    def _moving_ahead(
        self, t: float, pose: FloatArray, odometry: FloatArray, people: Sequence[Walking], command: Command
    ) -> FloatArray:
        """Return where what moves and nobody tracks will be until the robot can stand ``(N, 2)``, in the body frame."""
        if not self.base.tried or self.base.astray(t):
            # By an odometry that is wrong, what stands seems to move. Such a base is driven slowly in any case.
            return np.zeros((0, 2))
        tracked = transform_points(inverse(pose), Walking.rows(people)[:, :2])
        stops_in = self._delay.seconds + np.hypot(command.speed, command.sideways) / self._robot.drive.braking
        return self._moving.ahead(t, odometry, tracked, within=stops_in + UNAWARE)

    def _localizer_from(self, pose: FloatArray | None) -> ParticleLocalizer:
        return ParticleLocalizer(self._grid, self._robot, pose, settings=self._settings.localization, seed=self._seed)

    def _costs_anew(self) -> LiveCosts:
        return LiveCosts(
            self._grid, self._robot, zones=self._zones, extra_layers=self._layers, settings=self._settings.costs
        )

    def _look(self, scan: Scan, odometry: Track, people: Sequence[Walking]) -> _Seen:
        """Localize by a new scan, and price the floor by it."""
        motion = motion_at(odometry, scan.t, self._lidar)
        as_sent = scan.ranges
        scan = replace(scan, ranges=self._silent.left_out(as_sent))
        if self._outside is None:
            estimate = self._localizer.update(scan, motion)
            self._tell_second_opinion(scan.t)
        else:
            estimate = self._outside.estimate(scan.t, motion.pose)
        beams = straightened_beams(
            believed_ranges(scan.ranges, self._lidar),
            self._lidar,
            motion.sweep,
            clear_reach=self._settings.costs.obstacle_reach,
        )
        self._carried.take(motion.pose, beams.hits)
        self._moving.take(scan.t, motion.pose, beams)
        self._notice(scan.t, self.base.see(scan.t, motion.pose, beams.hits))
        self._forget_what_was_put_wrong(estimate)
        self._notice(scan.t, self.base.locate(estimate, motion.pose))
        if estimate.state in ("tracking", "settling"):
            pose = compose(estimate.pose, relative(odometry.poses[-1], motion.pose))
            self._price(float(odometry.t[-1]), estimate.pose, beams, people, pose)
        if estimate.settled:
            self._watch_for_silent_beams(scan.t, as_sent, estimate.pose)
            self._open_what_is_gone(float(odometry.t[-1]), estimate.pose, beams)
        if self._put_down:
            self._put_down = False
            self._floor.put_down(scan.t, motion.pose, self._grid, estimate.pose if estimate.settled else None)
        self._floor.see(scan.t, motion.pose, beams)
        return _Seen(scan, motion, estimate, beams)

    def _tell_second_opinion(self, t: float) -> None:
        """Tell what speaks against a pose that it was told, once."""
        opinion = self.second_opinion
        if opinion is not None and opinion is not self._told_opinion and opinion.warning:
            self._notice(t, [f"the pose told is in doubt: {opinion.warning}"])
        self._told_opinion = opinion

    def _watch_for_silent_beams(self, t: float, ranges: NDArray[np.float32], pose: FloatArray) -> None:
        """Find beams that show nothing where the map has walls, and tell where they look, once."""
        self._silent.take(ranges, pose, self._localizer.rays)
        silent = self._silent.silent
        if np.any(silent) and not self._told_silent:
            low, high = np.degrees(self._lidar.beam_angles[silent][[0, -1]])
            said = f"beams from {low:.0f} to {high:.0f} degrees show nothing where the map has walls: taken for blind"
            self._notice(t, [said])
        self._told_silent = bool(np.any(silent))

    def _open_what_is_gone(self, t: float, pose: FloatArray, beams: Beams) -> None:
        """Open what the map has and is gone, and tell where, once for each place."""
        for point in self.costs.open_what_is_gone(t, pose, beams):
            if all(np.hypot(*(point - told)) > ONE_PLACE for told in self._told_gone):
                self._told_gone.append(point)
                self._notice(t, [f"what the map has at {point[0]:.1f}, {point[1]:.1f} is gone: beams pass there"])

    def _notice(self, t: float, texts: Sequence[str]) -> None:
        """Note what was found out."""
        self._log.notices += [Notice(t, text) for text in texts]

    def _forget_what_was_put_wrong(self, estimate: Estimate) -> None:
        """Where a belief is given up for another, what was seen before was put where the robot was not.

        What was seen beside the body lies in the odometry's frame, and is there unless the robot was carried.
        """
        if self._belief_began not in (None, estimate.drift.began):
            self.costs.forget()
            if self._carried.carried:
                self._carried.carried = False
                self._before.carried()
                self._of_late.carried()
                self._moving.carried()
                self._put_down = True
        self._belief_began = estimate.drift.began

    def _price(
        self, t: float, seen_from: FloatArray, beams: Beams, people: Sequence[Walking], pose: FloatArray
    ) -> None:
        """Price the floor by what a scan sees, and now and then by where people are."""
        self.costs.see(t, seen_from, beams, people=people)
        if self._met <= t < self._met + PEOPLE_PERIOD - 1e-9:
            return
        # Who crosses will be gone before a plan gets there: the local planner minds them.
        near = [
            each
            for each in people
            if not each.walks_across(float(pose[2]))
            and np.hypot(each.x - pose[0], each.y - pose[1]) < self._settings.costs.obstacle_reach
        ]
        self.costs.meet(near)
        self._people_near = len(near) > 0
        self._met = t


@dataclass(frozen=True)
class _Seen:
    """What the last scan told."""

    scan: Scan
    motion: SweepMotion
    estimate: Estimate
    beams: Beams


def _velocity(odometry: Track) -> tuple[FloatArray, float]:
    """Return the body's mean velocity ``(3,)`` over the last moment of a track, and how long that is, s."""
    span = min(VELOCITY_SPAN, float(odometry.t[-1] - odometry.t[0]))
    if span <= 0.0:
        return np.zeros(3), 0.0
    before, now = odometry.at([odometry.t[-1] - span, odometry.t[-1]])
    return arc_velocity(relative(now, before)) / span, span
