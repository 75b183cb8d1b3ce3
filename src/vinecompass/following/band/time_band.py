"""The time-optimal band as a local planner: several of them in parallel, each past the islands on other sides."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.costs import touches_on_the_way
from vinecompass.door import checked
from vinecompass.following.band.band import Band, draw_tight, first_guess
from vinecompass.following.band.obstacle import Obstacle
from vinecompass.following.band.topology import Island, detour, islands_near, sides_of
from vinecompass.following.band.way_kernels import reversals
from vinecompass.following.course import Course
from vinecompass.following.local_planner import Considered, LocalPlan, LocalPlanner, View
from vinecompass.following.people.rules import WAITING_SPEED, Encounter, in_company, meet, shut_out_by_people
from vinecompass.following.speed_profile import SpeedProfile
from vinecompass.geometry import (
    arc_velocity,
    distance_along,
    polyline_headings,
    relative,
    resample_polyline,
    wrap_angle,
)
from vinecompass.motion import Command
from vinecompass.planning import ReedsSheppMotion
from vinecompass.robot import Robot
from vinecompass.settings import BandSettings, FollowingSettings, PeopleSettings

__all__ = ["TimeBand"]

FloatArray = NDArray[np.float64]
SHARES_TRIED = np.array([1.0, 0.75, 0.5, 0.25])
"""Shares of its speed that are tried until a person has room enough."""
KEPT_OF_SPACE = 0.5 / 1.1
"""Share of the personal space that the band keeps from people besides its usual gap: it has no softer charge."""
PARKING = 2.5
"""Metres of plan left from which manoeuvres are tried, too."""
QUICK_TURN = 4.0
"""Seconds that a turn on the spot at the end may take: no manoeuvre is quicker."""


class TimeBand(LocalPlanner):
    """Drives by the quickest of several bands.

    Each cycle the bands of the cycle before are carried on; others are begun along the plan, past what stands or walks
    alone on its other side, and near the end of the plan as manoeuvres that back up. All are drawn tight. Those whose
    body would touch something are shut out; the quickest is taken, but another than before only if it is clearly
    quicker.

    Parameters
    ----------
    robot : Robot
    settings : FollowingSettings, optional
    band : BandSettings, optional
    people : PeopleSettings, optional

    Examples
    --------
    >>> from vinecompass import Command, demo_file, read_robot
    >>> planner = TimeBand(read_robot(demo_file("robot.toml")))
    >>> planner.follow([[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [2.0, 0.0, 0.0]])
    >>> planner.step([0.0, 0.0, 0.0], Command(), 0.1).command.velocity.round(3).tolist()
    [0.07, 0.0, 0.0]
    """

    _turns_first = False

    @checked
    def __init__(
        self,
        robot: Robot,
        *,
        settings: FollowingSettings | None = None,
        band: BandSettings | None = None,
        people: PeopleSettings | None = None,
    ) -> None:
        super().__init__(robot, settings=settings)
        self._band = band or BandSettings()
        self._people = people or PeopleSettings()
        self._bands: list[Band] = []
        self._encounters: list[Encounter] = []
        self._half_width = 0.5 * float(np.ptp(robot.body.polygon[:, 1]))

    def follow(self, poses: ArrayLike) -> None:
        """Take up a plan; see `LocalPlanner.follow`."""
        super().follow(poses)
        self._bands = []

    def drive_on(self, view: View, course: Course, profile: SpeedProfile) -> LocalPlan:
        """Bend the band to what is near now, and take the first of its speeds."""
        goal, at_speed, path = self._ahead(view, course)
        islands = islands_near(path, view.floor, view.people, self._band.horizon + 1.0)[:3]
        leads = path[-1, :2] - path[0, :2]
        company = in_company(view.pose, view.people, self._people)
        self._encounters = meet(
            view.pose,
            view.velocity,
            view.people,
            company,
            course=float(np.arctan2(leads[1], leads[0])),
            before=self._encounters,
            only_on_other_side=self.only_on_other_side(view),
        )
        kept = KEPT_OF_SPACE * company.personal_space
        people = [Obstacle.of_person(each, kept) for each in view.people]
        bands: list[Band] = []
        seen: set[tuple[int, ...]] = set()
        for guess, rounds in self._guesses(view, course, goal, path, islands, kept):
            kind = _kind(guess, islands)
            if (kind in seen and kind[-1] == 0) or len(bands) >= self._band.alternatives:
                continue
            seen.add(kind)
            bands.append(
                draw_tight(
                    guess,
                    self._robot,
                    speed=view.current.speed,
                    turn_rate=view.current.turn_rate,
                    floor=view.floor,
                    obstacles=people,
                    top_speed=profile.on_floor,
                    ends_at_speed=at_speed,
                    tightness=profile.tightness,
                    settings=self._band,
                    rounds=rounds,
                )
            )
        return self._choose(view, course, profile, bands, islands, company.personal_space)

    def _choose(
        self,
        view: View,
        course: Course,
        profile: SpeedProfile,
        bands: list[Band],
        islands: Sequence[Island],
        space: float,
    ) -> LocalPlan:
        former = [_kind(band, islands) for band in self._bands[:1]]
        self._bands = []
        kinds = [_kind(band, islands) for band in bands]
        shut_by = np.array([int(self._touches(view, band)) for band in bands])
        wrong = np.array([self._on_wrong_sides(kind, islands) for kind in kinds])
        other = np.array(
            [
                self._band.loyalty * band.duration if former and kind != former[0] else 0.0
                for band, kind in zip(bands, kinds, strict=True)
            ]
        )
        terms = {
            "time": np.array([band.duration for band in bands]),
            "limits": np.array([band.cost - band.duration for band in bands]),
            "people": self._band.wrong_side * wrong,
            "loyalty": other,
        }
        cost = np.sum(list(terms.values()), axis=0)
        cost[shut_by > 0] = np.inf
        chosen = int(np.argmin(cost)) if np.any(np.isfinite(cost)) else -1
        considered = Considered(
            _paths(bands), terms, cost, shut_by, ["would touch something"], chosen, np.zeros((0, 3))
        )
        if chosen < 0:
            # What touches now may yet be drawn clear.
            self._bands = bands
            stand = self.wanting(view, Command(), "waits: every band would touch something")
            return LocalPlan(stand.command, self.phase, stand.reason, stand.poses, considered, self._encounters)
        self._bands = [bands[chosen], *(bands[k] for k in np.argsort(cost).tolist() if k != chosen)]
        command, reason = self._command(view, bands[chosen]), profile.reason
        waiting = [each for each in self._encounters if each.rule and not each.rule.may_approach]
        slower = np.outer(SHARES_TRIED, command.velocity)
        by_people = shut_out_by_people(view.pose, slower, waiting, space)
        if any(wrong[0] for _, wrong in by_people):
            free = np.flatnonzero(~np.any([wrong for _, wrong in by_people], axis=0))
            waits = min(WAITING_SPEED / max(abs(command.speed), 1e-9), 1.0)
            command = command.scaled(max(SHARES_TRIED[free[0]] if len(free) else 0.0, waits))
            reason = next(name for name, wrong in by_people if wrong[0])
        # The band keeps its limits softly; a zone's is not to be passed at all, nor the end of the leg.
        fastest = min(profile.on_floor, self._stopping_speed(view, course))
        command = command.scaled(min(fastest / max(abs(command.speed), 1e-9), 1.0))
        given = self.wanting(view, command, reason)
        return LocalPlan(given.command, self.phase, reason, bands[chosen].poses, considered, self._encounters)

    def _stopping_speed(self, view: View, course: Course) -> float:
        """Return the speed after the next period from which it can still brake before the end of its leg, m/s."""
        # v^2 / (2 b), and the mean of both speeds over the period before: a quadratic equation in v.
        braking, half = self._limits.braking, 0.5 * view.duration
        to_end = float(np.hypot(*(course.leg_end - view.pose)[:2])) - half * abs(view.current.speed)
        return max(
            float(np.sqrt((braking * half) ** 2 + 2.0 * braking * max(to_end, 0.0))) - braking * half, WAITING_SPEED
        )

    def _ahead(self, view: View, course: Course) -> tuple[FloatArray, bool, FloatArray]:
        """Return the pose to make for, whether at speed, and the plan ``(N, 2)`` to there, from where the robot is."""
        last = course.ahead(self._band.horizon)
        points = course.poses[course.nearest + 1 : last + 1, :2]
        path = np.vstack([view.pose[:2], points if len(points) else course.leg_end[None, :2]])
        end = course.poses[last]
        step = course.direction * (path[-1] - path[-2])
        travel = float(np.arctan2(step[1], step[0])) if np.hypot(*step) > 1e-3 else float(view.pose[2])
        at_speed = course.left > self._band.horizon
        ends = not at_speed and course.last_leg
        turn, limits = float(abs(wrap_angle(end[2] - travel))), self._limits
        slow = turn / limits.top_turn_rate + limits.top_turn_rate / limits.turn_acceleration > QUICK_TURN
        keeps = ends and ((slow and course.left < PARKING) or not self._limits.turns_on_the_spot)
        return np.array([end[0], end[1], end[2] if keeps else travel]), at_speed, path

    def _guesses(
        self, view: View, course: Course, goal: FloatArray, path: FloatArray, islands: Sequence[Island], kept: float
    ) -> list[tuple[Band, int]]:
        """Return what to begin with, each with how many rounds it needs: what was kept first, then what is new.

        Detours leave people as much room besides as is `kept` from them, m.
        """
        guesses = [(_carried(band, view, goal), 1) for band in self._bands]
        fresh = 1 if guesses else 3
        even = resample_polyline(path, 0.2) if distance_along(path)[-1] > 0.05 else path
        present = sides_of(even, islands)
        rooms = [self._half_width + self._band.swerve + (kept if each.person >= 0 else 0.0) for each in islands]
        in_the_way = [
            side != 0 and np.hypot(*(even - (each.x, each.y)).T).min() < each.reach + 0.7 * room
            for each, side, room in zip(islands, present, rooms, strict=True)
        ]
        if not any(in_the_way):
            guesses.append((first_guess(_posed(even, view.pose, goal, course.direction), self._robot), fresh + 1))
        for island, side, room, blocks in zip(islands, present, rooms, in_the_way, strict=True):
            for other in (side, -side) if blocks else (-side,) if side else ():
                led = detour(even, island, other, room)
                guesses.append((first_guess(_posed(led, view.pose, goal, course.direction), self._robot), 2))
        if course.left < PARKING and course.last_leg and self._limits.reverse_speed > 0.0 and not self._bands:
            natural = self._limits.top_speed / self._limits.top_turn_rate
            for radius in [0.4 * natural, natural] if self._limits.turns_on_the_spot else [self._limits.turning_radius]:
                curve = ReedsSheppMotion(1.1 * radius).poses(view.pose, goal, 0.1)
                if len(curve) > 2:
                    guesses.append((first_guess(curve, self._robot), 4))
        return guesses

    def _touches(self, view: View, band: Band) -> bool:
        """Tell whether the body touches something on a band's way that it does not touch where it stands."""
        moments = np.arange(0.0, band.duration + 0.05, 0.1)
        return view.floor is not None and touches_on_the_way(view.floor, self._robot, band.at(moments))

    def _on_wrong_sides(self, kind: tuple[int, ...], islands: Sequence[Island]) -> int:
        """Count the people who would be passed on the side that is not preferred."""
        count = 0
        for island, side in zip(islands, kind[:-1], strict=True):
            prefer = self._encounters[island.person].prefer if island.person >= 0 else None
            if prefer is not None and side != 0:
                # Passing on the right leaves the person on the left.
                count += side != (1 if prefer == "right" else -1)
        return count

    def _command(self, view: View, band: Band) -> Command:
        """Return the mean speed over the next period, and the mean turn rate over somewhat more."""
        here, there, later = band.at([0.0, view.duration, self._band.steering_time])
        ahead = float(arc_velocity(relative(there, here))[0]) / view.duration
        return Command(ahead, turn_rate=float(later[2] - here[2]) / min(self._band.steering_time, band.duration))


def _posed(points: FloatArray, pose: FloatArray, goal: FloatArray, direction: int) -> FloatArray:
    """Return a path of points ``(N, 2)`` as poses, turning on the spot at either end where it must."""
    headings = polyline_headings(direction * points)
    poses = np.column_stack([points, headings])
    parts = [pose[None]]
    if abs(wrap_angle(headings[0] - pose[2])) > 0.6:
        parts.append(poses[:1])
    parts.append(poses[1:-1] if len(poses) > 2 else poses[:0])
    if abs(wrap_angle(headings[-1] - goal[2])) > 0.6:
        parts.append(poses[-1:])
    return np.vstack([*parts, goal[None]])


def _carried(band: Band, view: View, goal: FloatArray) -> Band:
    """Return a band of the cycle before, begun where the robot is now and led on to the goal of now."""
    stamps = band.stamps
    left = np.append(view.duration, stamps[stamps > view.duration + 0.02])
    poses = band.at(left)
    times = np.diff(left)
    poses[0] = [*view.pose[:2], poses[0, 2] + wrap_angle(view.pose[2] - poses[0, 2])]
    end = np.array([*goal[:2], poses[-1, 2] + wrap_angle(goal[2] - poses[-1, 2])])
    way, turn = float(np.hypot(*(end - poses[-1])[:2])), abs(float(end[2] - poses[-1, 2]))
    if len(times) < 2:
        return Band(np.vstack([poses[:1], end]), np.array([max(way, turn, 0.05)]), {})
    if way > 0.02:
        return Band(np.vstack([poses, end]), np.append(times, max(way, turn)), {})
    poses[-1] = end
    return Band(poses, times, {})


def _kind(band: Band, islands: Sequence[Island]) -> tuple[int, ...]:
    """Return what tells bands apart: on which side each island is passed, and how often it reverses."""
    return (*sides_of(band.poses, islands), reversals(band.poses, 0.02))


def _paths(bands: Sequence[Band]) -> FloatArray:
    """Return the poses of bands ``(K, M, 3)``, at as many moments of each."""
    moments = np.linspace(0.0, 1.0, 40)
    return np.array([band.at(moments * band.duration) for band in bands]).reshape(len(bands), 40, 3)
