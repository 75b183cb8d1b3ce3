"""The velocity window: of all velocities within reach, the one that serves the plan best."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from vinecompass.contact import OPEN_FLOOR, BodyShape, Cells, Walking, cells_shape_of, shape_of
from vinecompass.costs import standing_robot
from vinecompass.door import checked
from vinecompass.following.course import Course
from vinecompass.following.local_planner import Considered, LocalPlan, LocalPlanner, View
from vinecompass.following.people.rules import Encounter, in_company, meet, shut_out_by_people
from vinecompass.following.speed_profile import SpeedProfile
from vinecompass.following.window.kernels import BESIDE, NEARNESS, OFF_DIRECTION, TO_GO, TOUCHES, TURN_CHANGE, roll_out
from vinecompass.following.window.people_kernels import charge_for_people
from vinecompass.geometry import compose, inverse, polyline_headings, transform_points
from vinecompass.motion import Command, MotionLimits, reachable_velocities
from vinecompass.robot import Robot
from vinecompass.settings import FollowingSettings, PeopleSettings, WindowSettings

__all__ = ["VelocityWindow"]

FloatArray = NDArray[np.float64]
ROLL_OUT_STEP = 0.1
"""Seconds between the poses of a roll-out."""
DELAY = 0.1
"""Seconds from seeing to braking that a roll-out allows for; safety allows for more, so that it hardly matters here."""
PEOPLE_REACH = 8.0
"""Metres from which people are minded."""
PEOPLE_TIME = 6.0
"""Seconds ahead for which people are minded: towards one who comes, slowing down only puts off the meeting."""
MANY = 1000
"""Candidates from which two cores are quicker than one."""
LEADING = 0.4
"""Metres at the end of a leg that say where it leads on: the last step alone may be a corner's."""
LOOKED_ALONG = 2.0
"""Metres of plan that say where it leads, as people see it; and that are followed at least."""
NO_LONGER_LEADS = 0.5
"""Metres left of a leg from which its direction says nothing any more about where the robot goes."""
SLOWEST = 0.1
"""m/s by which the rest of a plan is divided at least, to tell how long it takes."""
SIDES = {"left": 1.0, "right": -1.0, None: 0.0}
"""On which side a person is to be passed, as kernels take it."""


class Begin(NamedTuple):
    """Where roll-outs begin: a pose ``(3,)`` in the grid's frame, a velocity ``(3,)``, and that frame in the site's."""

    pose: FloatArray
    velocity: FloatArray
    frame: FloatArray


class CourseAhead(NamedTuple):
    """The plan ahead ``(N, 2)`` in the grid's frame, its way ``(N,)``, and the body's direction on each segment."""

    plan: FloatArray
    along: FloatArray
    headings: FloatArray


class Around(NamedTuple):
    """The floor, and the body in metres and in its cells."""

    cells: Cells
    body: BodyShape
    body_in_cells: BodyShape


class RollOut(NamedTuple):
    """How velocities are rolled out: seconds between poses and from seeing to braking; the gap that is room, m."""

    limits: MotionLimits
    step: float
    delay: float
    tight_gap: float


class Minded(NamedTuple):
    """People who are charged for ``(P, 5)``, the side to pass each on (1 left, -1 right, 0 either), and the charge.

    They are minded for so many seconds. The charge is for touching, and falls to none at `space` metres.
    """

    rows: FloatArray
    sides: FloatArray
    seconds: float
    left_to_go: float
    space: float
    charge: float


class VelocityWindow(LocalPlanner):
    """Tries the velocities that the drive can reach, rolls each out with the exact body, and takes the cheapest.

    Every term is in seconds: the time that the rest of the plan still takes after the roll-out (progress), and what
    straying from the plan (offset), pointing off it (heading), being near to things (clearance), turning the wheel
    about (smoothness) and leaving people too little room (people) is worth. Velocities that a rule for meeting people
    forbids are shut out, and those from which the robot could not stop before it touches something.

    Parameters
    ----------
    robot : Robot
        An omni drive is driven along like a differential one, and goes sideways only as it closes in on an end.
    settings : FollowingSettings, optional
    window : WindowSettings, optional
    people : PeopleSettings, optional
        Rules for meeting people, which shut velocities out before they are weighed.

    Notes
    -----
    The dynamic window approach (Fox, Burgard and Thrun, 1997) along a plan (Brock and Khatib, 1999), with roll-outs
    that take time to reach their velocity.

    Examples
    --------
    >>> from vinecompass import Command, demo_file, read_robot
    >>> window = VelocityWindow(read_robot(demo_file("robot.toml")))
    >>> window.follow([[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [2.0, 0.0, 0.0]])
    >>> plan = window.step([0.0, 0.0, 0.0], Command(), 0.1)
    >>> plan.phase, plan.command.speed > 0.0, sorted(plan.considered.terms)
    ('driving', True, ['clearance', 'heading', 'offset', 'people', 'progress', 'smoothness'])
    """

    @checked
    def __init__(
        self,
        robot: Robot,
        *,
        settings: FollowingSettings | None = None,
        window: WindowSettings | None = None,
        people: PeopleSettings | None = None,
    ) -> None:
        super().__init__(robot, settings=settings)
        self._people = people or PeopleSettings()
        self._encounters: list[Encounter] = []
        self._window = window or WindowSettings()
        self._body = shape_of(robot.body)
        self._cores = ThreadPoolExecutor(1)

    def drive_on(self, view: View, course: Course, profile: SpeedProfile) -> LocalPlan:
        """Take the cheapest of the velocities that the drive can reach in a cycle."""
        velocities = reachable_velocities(
            self._limits,
            view.current,
            self._window.reach,
            direction=course.direction,
            top_speed=profile.allowed,
            speeds=self._window.speeds,
            turn_rates=self._window.turn_rates,
        )
        people = in_company(view.pose, view.people, self._people)
        self._encounters = meet(
            view.pose,
            view.velocity,
            view.people,
            people,
            course=_leads_to(course),
            before=self._encounters,
            only_on_other_side=self.only_on_other_side(view),
        )
        frame = np.zeros(3) if view.floor is None else view.floor.grid.frame
        ahead, led_on = self._ahead(course, frame)
        paths, terms, for_people = self._rolled_out(
            view, velocities, frame, ahead, self._minded(view.pose, course.left, people)
        )
        charges = self._charges(velocities, terms, for_people, profile, led_on)
        cost = np.sum(list(charges.values()), axis=0)
        shut_by, reasons = np.where(terms[:, TOUCHES] > 0.0, 1, 0), ["could not stop before it touches"]
        by_people = shut_out_by_people(view.pose, velocities, self._encounters, people.personal_space)
        for name, wrong in by_people:
            reasons.append(name)
            shut_by[wrong & (shut_by == 0)] = len(reasons)
        cost[shut_by > 0] = np.inf
        chosen = int(np.argmin(cost)) if np.any(np.isfinite(cost)) else -1
        considered = Considered(paths, charges, cost, shut_by, reasons, chosen, velocities)
        if chosen < 0:
            found = ", ".join(reasons[number - 1] for number in np.unique(shut_by).tolist())
            stand = self.wanting(view, Command(), f"waits: {found}")
            return replace(stand, considered=considered, encounters=self._encounters)
        reason = next((name for name, wrong in by_people if np.any(wrong)), profile.reason)
        speed, sideways, turn_rate = velocities[chosen].tolist()
        best = self.wanting(view, Command(speed, sideways=sideways, turn_rate=turn_rate), reason, paths[chosen])
        return replace(best, considered=considered, encounters=self._encounters)

    def _ahead(self, course: Course, frame: FloatArray) -> tuple[CourseAhead, float]:
        """Return the plan ahead for roll-outs, and how many metres of the leg are left beyond what it holds.

        What is charged is the rest of the leg, however far the roll-outs are led on beyond it.
        """
        horizon = self._window.horizon
        reach = course.ahead(max(LOOKED_ALONG, 2.0 * horizon * self._limits.top_speed))
        first = min(course.nearest, max(reach - 1, 0))
        poses = course.poses[first : reach + 1]
        plan = transform_points(inverse(frame), poses[:, :2])
        along = course.along[first : reach + 1] - course.along[first]
        if reach == course.end:
            plan, along = _led_on(plan, along, course.direction, float(poses[-1, 2] - frame[2]), horizon)
        left = course.left - float(along[-1] - (course.along[course.nearest] - course.along[first]))
        return CourseAhead(plan, along, polyline_headings(course.direction * plan)), left

    def _rolled_out(
        self, view: View, velocities: FloatArray, frame: FloatArray, ahead: CourseAhead, people: Minded
    ) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Return the poses ``(K, M, 3)`` of roll-outs, what is told of them ``(K, 6)``, and their charge for people."""
        paths = np.empty((len(velocities), max(round(self._window.horizon / ROLL_OUT_STEP), 1), 3))
        terms, for_people = np.empty((len(velocities), 6)), np.zeros(len(velocities))
        begin = Begin(compose(inverse(frame), view.pose), view.current.velocity, frame)
        around, setup = self._around(view), RollOut(self._limits, ROLL_OUT_STEP, DELAY, self._settings.tight_gap)

        def weigh(part: slice) -> None:
            roll_out(velocities[part], begin, ahead, around, setup, paths[part], terms[part])
            if len(people.rows):
                charge_for_people(paths[part], ROLL_OUT_STEP, people, self._body, for_people[part])

        # Candidates know nothing of each other: with many of them, each of two cores takes a half.
        half = len(velocities) // 2 if len(velocities) >= MANY else len(velocities)
        other = self._cores.submit(weigh, slice(half, None)) if half < len(velocities) else None
        weigh(slice(half))
        if other is not None:
            other.result()
        return paths, terms, for_people

    def _charges(
        self, velocities: FloatArray, terms: FloatArray, for_people: FloatArray, profile: SpeedProfile, led_on: float
    ) -> dict[str, FloatArray]:
        """Return what each term charges each velocity ``(K,)``, s."""
        w, allowed = self._window, max(profile.allowed, SLOWEST)
        # Slowing down costs more than the way not made meanwhile: the speed has to be got up again.
        slower = np.maximum(allowed - np.abs(velocities[:, 0]), 0.0)
        got_up_again = slower**2 / (2.0 * self._limits.acceleration * allowed)
        return {
            "progress": (terms[:, TO_GO] + led_on) / allowed + got_up_again,
            "offset": w.offset * (1.0 + w.strictness * profile.tightness) * terms[:, BESIDE],
            "heading": w.heading * terms[:, OFF_DIRECTION],
            "clearance": w.clearance * terms[:, NEARNESS],
            "smoothness": w.smoothness * terms[:, TURN_CHANGE],
            "people": for_people,
        }

    def _around(self, view: View) -> Around:
        """Return the floor, and the body as it may be taken where it stands."""
        if view.floor is None:
            return Around(OPEN_FLOOR, self._body, self._body)
        standing = standing_robot(view.floor, self._robot, view.pose)
        in_cells = cells_shape_of(standing.body, view.floor.grid.cell_size)
        return Around(view.floor.cells, self._body, in_cells)

    def _minded(self, pose: FloatArray, left_to_go: float, settings: PeopleSettings) -> Minded:
        """Return who is near enough to be charged for."""
        near = [
            each
            for each in self._encounters
            if np.hypot(pose[0] - each.person.x, pose[1] - each.person.y) < PEOPLE_REACH
        ]
        sides = np.array([SIDES[each.prefer] for each in near])
        rows = Walking.rows(each.person for each in near)
        return Minded(rows, sides, PEOPLE_TIME, left_to_go, settings.personal_space, settings.charge)


def _leads_to(course: Course) -> float | None:
    """Return where the plan leads, radians, or None where too little of its leg is left to tell."""
    if course.left <= NO_LONGER_LEADS:
        return None
    leads = course.poses[course.ahead(LOOKED_ALONG), :2] - course.poses[course.nearest, :2]
    return float(np.arctan2(leads[1], leads[0]))


def _led_on(
    plan: FloatArray, along: FloatArray, direction: int, heading: float, seconds: float
) -> tuple[FloatArray, FloatArray]:
    """Return a leg ``(N, 2)`` and its way ``(N,)`` led on straight beyond its end, for roll-outs that go too far."""
    step = plan[-1] - plan[max(int(np.searchsorted(along, along[-1] - LEADING)) - 1, 0)]
    length = float(np.hypot(step[0], step[1]))
    ahead = step / length if length > 1e-6 else direction * np.array([np.cos(heading), np.sin(heading)])
    return np.vstack([plan, plan[-1] + seconds * ahead]), np.append(along, along[-1] + seconds)
