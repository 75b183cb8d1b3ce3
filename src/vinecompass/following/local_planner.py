"""What every local planner is and gives: one call a cycle, one command, and everything that was considered for it."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.contact import Walking
from vinecompass.costs import OTHER_SIDE, CostMap, Side, side_with_room, touches_on_the_way
from vinecompass.door import checked
from vinecompass.following.course import Course
from vinecompass.following.people.rules import Encounter
from vinecompass.following.speed_profile import RESERVE, SpeedProfile
from vinecompass.geometry import checked_pose, relative, turn_on_the_spot, wrap_heading
from vinecompass.motion import Command, limit_command, limits_of
from vinecompass.motion.kernels import speed_to_stop_within, stopping_distance
from vinecompass.robot import Robot
from vinecompass.settings import FollowingSettings

__all__ = ["Considered", "LocalPlan", "LocalPlanner", "Phase", "View"]

FloatArray = NDArray[np.float64]
Phase = Literal["turning", "driving", "closing in", "aligning", "arrived", "missed"]
CLOSING_DISTANCE = 0.3
"""Metres from the end of a leg within which the end itself is aimed at."""
SPARE = (0.06, 0.04, 0.02, 0.0)
"""Metres about the body that it likes to have free when it turns on the spot: the side that has more is taken."""
HELD_UP = 2.0
"""Seconds without turning after which a turn on the spot is tried the other way round."""
SWAY = 0.015
"""Metres beside the end that are not steered against."""
STEERED_TO = 0.1
"""Metres before the end up to which it is steered at: nearer to it, steering would only shake."""
NEARLY_HALF_TURN = np.radians(150.0)
"""Radians of a turn on the spot from which the other way round is hardly farther."""
TURNED_ENOUGH = 40.0
"""Degrees off the way from which on a turn on the spot is ended under way, if its turning can be braked by then."""
TURNS_BELOW = 0.05
"""m/s below which it turns on the spot."""
TURN_BRAKING = 0.8
"""Share of the drive's turning power with which a turn on the spot is braked: some is left to correct it."""
STEERED_SURELY = 1.0
"""Metres before the end of a leg from which on what cannot turn on the spot keeps to the leg above all."""
DRAWN_IN = 2.5
"""1/m: by so much a metre of way, critically damped, what cannot turn on the spot is drawn to the end of its leg."""
LAST_METRE = 1.0
"""Metres of plan left from which on steering is not turned about for what the estimate may be off."""
TURNS_ABOUT_FROM = 0.2
"""Radians a second of steering the other way from which on it is."""


@dataclass(frozen=True)
class Considered:
    """What a local planner weighed against each other, for drawing and for asking why.

    Parameters
    ----------
    paths : array, (K, M, 3)
        The poses each candidate passes, in the site frame.
    terms : dict of str to array (K,)
        What each term charges each candidate, in seconds.
    cost : array, (K,)
        Their sum; `inf` for a candidate that is shut out.
    shut_by : array of int, (K,)
        Which of the `reasons` shuts a candidate out, counted from 1; 0 where none does.
    reasons : list of str
    chosen : int
        Or -1 if none was.
    velocities : array, (K, 3)
        Speed ahead and to the left, m/s, and turn rate, rad/s, that each candidate begins with.
    """

    paths: FloatArray
    terms: dict[str, FloatArray]
    cost: FloatArray
    shut_by: NDArray[np.int64]
    reasons: list[str]
    chosen: int
    velocities: FloatArray

    @property
    def shut_out(self) -> list[str]:
        """Why each candidate is shut out ``(K,)``; empty where it is not."""
        words = ["", *self.reasons]
        return [words[number] for number in self.shut_by.tolist()]

    @property
    def counts(self) -> dict[str, int]:
        """How many candidates each of the reasons shuts out, those that shut out any."""
        counts = np.bincount(self.shut_by.astype(int), minlength=len(self.reasons) + 1)[1:].tolist()
        return {reason: count for reason, count in zip(self.reasons, counts, strict=True) if count}


@dataclass(frozen=True)
class LocalPlan:
    """The next few seconds of motion.

    Parameters
    ----------
    command : Command
        For the next period; the drive can reach it from the one in force.
    phase : {"turning", "driving", "closing in", "aligning", "arrived", "missed"}
        "missed": it came to the end, but not within the tolerances, and its drive cannot turn on the spot; or something
        in the way holds up a turn on the spot either way round.
    reason : str
        What limits the speed, or why the robot stands.
    poses : array, (N, 3)
        Where the robot will pass, in the site frame; empty where it turns or stands.
    considered : Considered or None
    encounters : sequence of Encounter
        How the robot and each person move relative to each other, and the rule that applies.
    """

    command: Command
    phase: Phase
    reason: str = ""
    poses: FloatArray = field(default_factory=lambda: np.zeros((0, 3)))
    considered: Considered | None = None
    encounters: Sequence[Encounter] = ()


@dataclass(frozen=True)
class View:
    """What a local planner sees in one cycle.

    Parameters
    ----------
    pose : array, (3,)
        In the site frame, m and radians.
    current : Command
        The one in force.
    duration : float
        Of the next one, s.
    floor : CostMap or None
        The floor about the robot as priced now; None where nothing is known of it.
    people : sequence of Walking
    cap : float
        What safety allows, m/s: a planner that knows it does not weigh what it will not be let.
    capped_by : str
        Why, as "near a person".
    """

    pose: FloatArray
    current: Command
    duration: float
    floor: CostMap | None = None
    people: Sequence[Walking] = ()
    cap: float = np.inf
    capped_by: str = ""

    @property
    def velocity(self) -> FloatArray:
        """The velocity ``(2,)`` in force, in the site frame, m/s."""
        heading, ahead, left = float(self.pose[2]), self.current.speed, self.current.sideways
        cosine, sine = np.cos(heading), np.sin(heading)
        return np.array([cosine * ahead - sine * left, sine * ahead + cosine * left])


class LocalPlanner(ABC):
    """Follows one plan at a time: position first, and then the heading.

    It turns on the spot where the plan asks for it, drives the plan's legs forward or in reverse, closes in on its end,
    and turns to the last heading there. How a leg is driven is the business of each kind of planner: one of your own is
    a subclass with `drive_on`, which gives what `wanting` makes of a command.

    Parameters
    ----------
    robot : Robot
    settings : FollowingSettings, optional

    Attributes
    ----------
    phase : str
        As in `LocalPlan`.
    """

    _turns_first = True
    """Whether it turns on the spot towards a leg that leads far off its heading."""

    @checked
    def __init__(self, robot: Robot, *, settings: FollowingSettings | None = None) -> None:
        self._robot = robot
        self._limits = limits_of(robot.drive).reserved(RESERVE)
        self._bodies = [robot.widened(spare) for spare in SPARE]
        self._settings = settings or FollowingSettings()
        self.phase: Phase = "arrived"
        self._course: Course | None = None
        self._side = 0
        self._held_up = 0.0
        self._tried_both = False
        self._turned = 0.0

    @abstractmethod
    def drive_on(self, view: View, course: Course, profile: SpeedProfile) -> LocalPlan:
        """Return the plan for one cycle of driving along a leg."""

    def follow(self, poses: ArrayLike) -> None:
        """Take up a plan ``(N, 3)`` in the site frame, whose last heading is the one to end with.

        Raises
        ------
        InputError
            It has fewer than two poses, or one that is not finite.
        """
        self._course = Course(poses)
        if not self._tried_both:
            # The short way round to the former plan may be the long one to this.
            self._side = 0
        if self.phase not in ("driving", "closing in"):
            self.phase = "turning" if self._limits.turns_on_the_spot and self._turns_first else "driving"

    @property
    def remaining(self) -> FloatArray:
        """The part of the plan still ahead ``(M, 3)``."""
        return np.zeros((0, 3)) if self._course is None else self._course.remaining

    def step(
        self,
        pose: ArrayLike,
        current: Command,
        duration: float,
        *,
        floor: CostMap | None = None,
        people: Sequence[Walking] = (),
        cap: float = np.inf,
        capped_by: str = "",
    ) -> LocalPlan:
        """Return the command for the next `duration` seconds, and what it was chosen from.

        Parameters
        ----------
        pose : array_like, (3,)
            In the site frame.
        current : Command
            The last one given: the new one differs from it by no more than the drive can change.
        duration : float
        floor : CostMap, optional
            The floor as priced now.
        people : sequence of Walking, optional
        cap : float, optional
            What safety allows, m/s.
        capped_by : str, optional
            Why, as "near a person".

        Raises
        ------
        InputError
            The pose is not finite.
        """
        here = checked_pose(pose, "pose")
        view = View(here, current, duration, floor, people, cap, capped_by)
        self._turned = current.turn_rate if current.turn_rate != 0.0 else self._turned
        course = self._course
        if course is None:
            return self.wanting(view, Command(), "no plan")
        course.advance(here)
        if self.phase in ("aligning", "arrived", "missed"):
            return self._align(view, course)
        if self._at_end(view, course):
            if course.last_leg:
                self.phase = "aligning"
                return self._align(view, course)
            if not current.standing:
                return self.wanting(view, Command(), "stops to change direction")
            course.next_leg()
        return self._approach(view, course)

    def _approach(self, view: View, course: Course) -> LocalPlan:
        """Turn to the leg, drive along it, or close in on its end."""
        end = self._from_behind(relative(course.leg_end, view.pose), course)
        distance = float(np.hypot(end[0], end[1]))
        # Who cannot turn on the spot must come in along the plan: steering at its end would spoil the heading there.
        steers_in = self._limits.turns_on_the_spot or self._limits.goes_sideways
        closing = steers_in and course.left < CLOSING_DISTANCE and distance < CLOSING_DISTANCE
        profile = SpeedProfile(course, view.floor, self._robot, self._settings, cap=view.cap, capped_by=view.capped_by)
        reach = self._settings.look_ahead + self._settings.look_ahead_time * abs(view.current.speed)
        target = end if closing else self._from_behind(relative(course.poses[course.ahead(reach)], view.pose), course)
        bearing = float(np.arctan2(target[1], target[0]))
        if self._limits.turns_on_the_spot and not self._limits.goes_sideways:
            # Turning on the spot ends well inside the bearing that starts it, so that it does not flutter.
            # A robot under way curves round where one that stands would turn first.
            limit = TURNED_ENOUGH if self.phase == "turning" else 60.0 if abs(view.current.speed) < 0.3 else 90.0
            turns_on = stopping_distance(view.current.turn_rate, TURN_BRAKING * self._limits.turn_acceleration)
            stands = abs(view.current.speed) < TURNS_BELOW
            still_turns = self.phase == "turning" and stands and turns_on > abs(bearing)
            # It backs up to an end that it went past, and turns to one that the plan leads back to.
            beside = closing and course.left == 0.0 and abs(float(target[1])) < self._settings.position_tolerance
            may_turn = closing or self._turns_first or self.phase == "turning"
            if (abs(bearing) > np.radians(limit) or still_turns) and not beside and may_turn:
                return self._turn_to(view, bearing, "turning")
        self._side = 0
        self._held_up = 0.0
        self._tried_both = False
        if closing:
            self.phase = "closing in"
            return self._close_in(view, course, end, profile)
        self.phase = "driving"
        if not steers_in and course.left < STEERED_SURELY:
            return self._steer_along(view, course, profile)
        return self.drive_on(view, course, profile)

    def _steer_along(self, view: View, course: Course, profile: SpeedProfile) -> LocalPlan:
        """Keep to the end of a leg, place and heading alike: what cannot turn on the spot cannot put them right there.

        Notes
        -----
        The chained-form law for a path's curvature (Samson, 1995).
        """
        first = min(course.nearest, course.end - 1)
        here, there = course.poses[first], course.poses[first + 1]
        step = course.direction * float(course.along[first + 1] - course.along[first])
        sharpest = 1.0 / self._limits.turning_radius
        # Where a plan ends with a heading that its last step does not lead to, no curve does.
        curvature = min(max(wrap_heading(float(there[2] - here[2])) / step, -sharpest), sharpest)
        ahead, aside, turned = relative(view.pose, here).tolist()
        aside -= 0.5 * curvature * ahead**2
        turned = wrap_heading(turned - curvature * ahead)
        speed = course.direction * profile.allowed
        back = DRAWN_IN**2 * aside * float(np.sinc(turned / np.pi)) * speed + 2.0 * DRAWN_IN * turned * abs(speed)
        return self.wanting(view, Command(speed, turn_rate=speed * curvature - back), profile.reason, course.leg)

    def _close_in(self, view: View, course: Course, end: FloatArray, profile: SpeedProfile) -> LocalPlan:
        """Creep to the end of a leg, steering at it only while that is of use."""
        ahead, aside = float(end[0]), float(end[1])
        speed = min(profile.allowed, 0.04 + 3.0 * abs(ahead))
        # Gone too far, it comes back if it can.
        if ahead < 0.0 and self._comes_back(course):
            return self.wanting(view, Command(-course.direction * speed), "went too far", course.leg)
        if self._limits.goes_sideways:
            distance = max(float(np.hypot(ahead, aside)), 1e-9)
            turn = 1.5 * wrap_heading(float(course.leg_end[2] - view.pose[2])) if course.last_leg else 0.0
            pace = min(speed + 1.2 * abs(aside), profile.allowed)
            sign = course.direction
            wanted = Command(sign * pace * ahead / distance, turn_rate=turn, sideways=sign * pace * aside / distance)
        else:
            steer = aside if abs(aside) > SWAY and ahead > STEERED_TO else 0.0
            curvature = 2.0 * steer / max(ahead * ahead + steer * steer, 0.15**2)
            wanted = Command(course.direction * speed, turn_rate=speed * curvature)
        return self.wanting(view, wanted, profile.reason, course.leg)

    def _at_end(self, view: View, course: Course) -> bool:
        end = self._from_behind(relative(course.leg_end, view.pose), course)
        distance, tolerance = float(np.hypot(end[0], end[1])), self._settings.position_tolerance
        if course.left > CLOSING_DISTANCE or distance > CLOSING_DISTANCE:
            return False
        # Braking from here takes the rest of the way.
        stopping = stopping_distance(view.current.speed, self._limits.braking)
        if self._limits.goes_sideways:
            return distance < max(tolerance, stopping)
        slack = tolerance if course.last_leg and self._limits.turns_on_the_spot else 2.0 * tolerance
        too_far = -tolerance if self._comes_back(course) else -np.inf
        if not too_far < end[0] < max(0.3 * tolerance, stopping):
            return False
        beside = abs(float(end[1]))
        if beside < slack or not self._limits.turns_on_the_spot:
            return True
        # Where the body has no room to turn towards the end, twice as far beside it will do.
        towards = float(np.copysign(0.5 * np.pi, end[1]))
        return beside < 2.0 * slack and not self._room_to_turn(view, self._bodies[0], towards)

    def _comes_back(self, course: Course) -> bool:
        """Tell whether the drive can go against the leg's direction."""
        return course.direction < 0 or self._limits.reverse_speed > 0.0

    def _align(self, view: View, course: Course) -> LocalPlan:
        """Turn to the last heading; close in again where the robot was pushed off."""
        s = self._settings
        end = relative(course.poses[-1], view.pose)
        distance, angle = float(np.hypot(end[0], end[1])), float(end[2])
        tolerance = np.radians(s.heading_tolerance_deg)
        if abs(view.current.speed) > 0.02 or abs(view.current.sideways) > 0.02:
            # Where it will have come to is judged once it stands.
            return self.wanting(view, Command(), "stops at the end")
        if not self._limits.turns_on_the_spot:
            off = distance > 2.5 * s.position_tolerance or abs(angle) > 4.0 * tolerance
            self.phase = "missed" if off else "arrived"
            said = f"{distance:.2f} m and {np.degrees(abs(angle)):.1f} degrees off, and it cannot turn on the spot"
            return self.wanting(view, Command(), said if off else "")
        if distance > 2.0 * s.position_tolerance:
            self.phase = "turning"
            course.nearest = len(course.poses) - 1
            return self.wanting(view, Command(), f"{distance:.2f} m off the end of the plan")
        if abs(angle) < (2.0 if self.phase == "arrived" else 1.0) * tolerance:
            self.phase = "arrived"
            return self.wanting(view, Command(), "")
        return self._turn_to(view, angle, "aligning")

    def _turn_to(self, view: View, angle: float, phase: Phase) -> LocalPlan:
        """Stand, then turn on the spot, the short way round unless the body would touch something."""
        self.phase = phase
        if abs(view.current.speed) > TURNS_BELOW or abs(view.current.sideways) > TURNS_BELOW:
            return self.wanting(view, Command(), "stops to turn on the spot")
        # Held up by what the map does not know, it tries the other way round.
        self._held_up = self._held_up + view.duration if abs(view.current.turn_rate) < 0.05 else 0.0
        if self._held_up > HELD_UP and not self._tried_both:
            self._side = -self._side
            self._held_up = 0.0
            self._tried_both = True
        elif self._held_up > HELD_UP:
            self.phase = "missed"
            self._held_up = 0.0
            return self.wanting(view, Command(), "no room to turn on the spot, either way round")
        elif self._side == 0 or (abs(angle) < np.radians(20.0) and self._held_up == 0.0):
            self._side = self._free_side(view, angle)
        if self._side * angle < 0.0:
            angle += np.copysign(2.0 * np.pi, self._side)
        return self.wanting(view, Command(0.0, turn_rate=self._turning_by(angle)), "")

    def _turning_by(self, angle: float) -> float:
        """Return the turn rate with which a turn by so many radians ends where it should, rad/s."""
        braked = speed_to_stop_within(abs(angle), TURN_BRAKING * self._limits.turn_acceleration)
        return float(np.copysign(min(braked, 4.0 * abs(angle) + 0.02, self._limits.top_turn_rate), angle))

    def _room_to_turn(self, view: View, body: Robot, angle: float) -> bool:
        """Tell whether a body can turn on the spot by so many radians."""
        turn = turn_on_the_spot(view.pose, angle, 0.1)
        return view.floor is None or not touches_on_the_way(view.floor, body, turn)

    def _free_side(self, view: View, angle: float) -> int:
        """Return 1 to turn left, -1 to turn right: the short way, or the other one if only that is free.

        Nearly half a turn is gone on with the way it turned last.
        """
        short = first = 1 if angle > 0.0 else -1
        if abs(angle) > NEARLY_HALF_TURN and self._turned != 0.0:
            first = 1 if self._turned > 0.0 else -1
        for body in self._bodies:
            for side in (first, -first):
                if self._room_to_turn(view, body, angle if side == short else angle + side * 2.0 * np.pi):
                    return side
        return first

    def _from_behind(self, target: FloatArray, course: Course) -> FloatArray:
        """Return a pose seen from the body as from one that looks where the leg goes."""
        return target * (course.direction, course.direction, 1.0)

    def only_on_other_side(self, view: View) -> Callable[[Walking, Side], bool]:
        """Return what tells of a person who walks towards the robot whether only the other side has room to pass."""

        def told(person: Walking, usual: Side) -> bool:
            if view.floor is None:
                return False
            # Who come towards each other, and both keep to the right, are each on the other's left.
            beside = OTHER_SIDE[usual]
            return side_with_room(view.floor.grid, view.floor.clearance, self._robot, person, beside) != beside

        return told

    def wanting(self, view: View, wanted: Command, reason: str, poses: FloatArray | None = None) -> LocalPlan:
        """Return the plan for a cycle that wants a command, and why; told is what the drive can do of it.

        `poses` ``(M, 3)`` are those it means to pass, for drawing.
        """
        steady = self._steady(wanted)
        command = limit_command(steady, view.current, view.duration, self._limits)
        return LocalPlan(command, self.phase, reason, np.zeros((0, 3)) if poses is None else poses)

    def _steady(self, wanted: Command) -> Command:
        """Return what is wanted, without a slight turn about of the steering on the last metre.

        What cannot turn on the spot needs it: only steering back puts its heading right.
        """
        course = self._course
        if (
            not self._limits.turns_on_the_spot
            or course is None
            or self.phase not in ("driving", "closing in")
            or course.to_go >= LAST_METRE
        ):
            return wanted
        slight = wanted.turn_rate * self._turned < 0.0 and abs(wanted.turn_rate) < TURNS_ABOUT_FROM
        return replace(wanted, turn_rate=0.0) if slight else wanted
