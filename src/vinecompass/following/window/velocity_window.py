"""The velocity window: of all velocities within reach, the one that serves the plan best."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

from vinecompass.costs import standing_robot
from vinecompass.following.course import Course
from vinecompass.following.local_planner import Considered, LocalPlan, LocalPlanner, View
from vinecompass.following.people.rules import Encounter, meet, shut_out_by_people
from vinecompass.following.speed_profile import SpeedProfile
from vinecompass.following.window.kernels import charge_for_people, roll_out
from vinecompass.geometry import compose, inverse, polyline_headings, transform_points
from vinecompass.robot import Command, Robot
from vinecompass.settings import FollowingSettings, PeopleSettings, WindowSettings

__all__ = ["VelocityWindow"]

FloatArray = NDArray[np.float64]
STEP = 0.1
"""Seconds between the poses of a roll-out."""
DELAY = 0.1
"""Seconds from seeing to braking that a roll-out allows for; safety allows for more."""
PEOPLE_REACH = 8.0
"""Metres from which people are minded."""
PEOPLE_TIME = 6.0
"""Seconds ahead for which people are minded: towards one who comes, slowing down only puts off the meeting."""
STRICTER = 6.0
"""How many times more straying from the plan is charged where the body just fits: there the plan leads in straight."""
MANY = 1000
"""Candidates from which two cores are quicker than one."""
LEADING = 0.4
"""Metres at the end of a leg that say where it leads on: the last step alone may be a corner's."""
OPEN_FLOOR = np.zeros((1, 1), bool), np.full((1, 1), np.inf, np.float32)


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
        self._discs, self._disc_radius = robot.body.covering_discs
        self._rim_of: tuple[Robot, float] | None = None
        self._rim = np.zeros((0, 2))
        self._cores = ThreadPoolExecutor(1)

    def _drive_on(self, view: View, course: Course, profile: SpeedProfile) -> LocalPlan:
        w, drive, s = self._window, self._drive, self._settings
        velocities = self._reachable(view, course, profile)
        steps = max(round(w.horizon / STEP), 1)
        paths = np.empty((len(velocities), steps, 3))
        terms = np.empty((len(velocities), 6))
        reach = course.ahead(max(2.0, 2.0 * w.horizon * drive.top_speed))
        first = min(course.nearest, max(reach - 1, 0))
        poses = course.poses[first : reach + 1]
        # A local frame: the grid's, so that cells are found by division.
        frame = np.zeros(3) if view.floor is None else view.floor.grid.frame
        plan = transform_points(inverse(frame), poses[:, :2])
        along = course.along[first : reach + 1] - course.along[first]
        if reach == course.end:
            plan, along = _led_on(plan, along, course.direction, float(poses[-1, 2] - frame[2]), self._window.horizon)
        forbidden, clearance, cell = self._floor(view)
        here = compose(inverse(frame), view.pose)
        rim = self._rim_at(view, 0.5 * cell)
        common = (
            np.array([view.current.speed, view.current.turn_rate]),
            np.array([drive.acceleration, drive.braking, drive.turn_acceleration]),
            here,
            frame,
            (plan, along, polyline_headings(course.direction * plan)),
            (forbidden, clearance, cell),
            (rim, 0.5 * cell, self._discs, self._disc_radius, self._robot.body.outer_radius),
            steps,
            (STEP, DELAY),
            s.tight_gap,
        )
        leads = course.poses[course.ahead(2.0), :2] - course.poses[course.nearest, :2]
        encounters = self._encounters = meet(
            view.pose,
            view.velocity,
            view.people,
            self._people,
            course=float(np.arctan2(leads[1], leads[0])) if course.left > 0.5 else None,
            before=self._encounters,
        )
        near, for_people = self._people_near(view.pose, encounters), np.zeros(len(velocities))

        def weigh(part: slice) -> None:
            roll_out(velocities[part], *common, paths[part], terms[part])
            if len(near):
                charge_for_people(
                    paths[part],
                    STEP,
                    PEOPLE_TIME,
                    course.left,
                    near,
                    self._discs,
                    self._disc_radius,
                    self._people.personal_space,
                    self._people.charge,
                    for_people[part],
                )

        # Candidates know nothing of each other: with many of them, each of two cores takes a half.
        half = len(velocities) // 2 if len(velocities) >= MANY else len(velocities)
        other = self._cores.submit(weigh, slice(half, None)) if half < len(velocities) else None
        weigh(slice(half))
        if other is not None:
            other.result()
        # What is charged is the rest of the leg, however far the roll-outs were led on beyond it.
        led_on = course.left - float(along[-1] - (course.along[course.nearest] - course.along[first]))
        allowed = max(profile.allowed, 0.1)
        # Slowing down costs more than the way not made meanwhile: the speed has to be got up again.
        slower = np.maximum(allowed - np.abs(velocities[:, 0]), 0.0)
        charges = {
            "progress": (terms[:, 0] + led_on) / allowed + slower**2 / (2.0 * drive.acceleration * allowed),
            "offset": w.offset * (1.0 + STRICTER * profile.tightness) * terms[:, 1],
            "heading": w.heading * terms[:, 2],
            "clearance": w.clearance * terms[:, 3],
            "smoothness": w.smoothness * terms[:, 4],
            "people": for_people,
        }
        cost = np.sum(list(charges.values()), axis=0)
        shut_by, reasons = np.where(terms[:, 5] > 0.0, 1, 0), ["could not stop before it touches"]
        by_people = shut_out_by_people(view.pose, velocities, encounters)
        for name, wrong in by_people:
            reasons.append(name)
            shut_by[wrong & (shut_by == 0)] = len(reasons)
        cost[shut_by > 0] = np.inf
        chosen = int(np.argmin(cost)) if np.any(np.isfinite(cost)) else -1
        full = np.column_stack([velocities[:, 0], np.zeros(len(velocities)), velocities[:, 1]])
        considered = Considered(paths, charges, cost, shut_by, reasons, chosen, full)
        if chosen < 0:
            found = ", ".join(reasons[number - 1] for number in np.unique(shut_by).tolist())
            stand = self._plan(view, Command(), f"waits: {found}")
            return LocalPlan(stand.command, self.phase, stand.reason, stand.poses, considered, encounters)
        best = self._plan(view, Command(float(full[chosen, 0]), float(full[chosen, 2])), profile.reason)
        reason = next((name for name, wrong in by_people if np.any(wrong)), profile.reason)
        return LocalPlan(best.command, self.phase, reason, paths[chosen], considered, encounters)

    def _rim_at(self, view: View, spacing: float) -> FloatArray:
        """Return points ``(R, 2)`` on the outline of the body as it may be taken where it stands."""
        robot = self._robot if view.floor is None else standing_robot(view.floor, self._robot, view.pose)
        if self._rim_of is None or self._rim_of[0] is not robot or self._rim_of[1] != spacing:
            self._rim_of = (robot, spacing)
            self._rim = robot.body.rim(spacing)
        return self._rim

    def _people_near(self, pose: FloatArray, encounters: Sequence[Encounter]) -> FloatArray:
        """Return who is charged for ``(P, 5)``, as the kernel wants it."""
        sides, rows = {"left": 1.0, "right": -1.0}, []
        for each in encounters:
            person, prefer = each.person, each.rule.prefer if each.rule else None
            if np.hypot(pose[0] - person.x, pose[1] - person.y) < PEOPLE_REACH:
                rows.append((person.x, person.y, person.velocity_x, person.velocity_y, sides.get(prefer or "", 0.0)))
        return np.array(rows).reshape(-1, 5)

    def _reachable(self, view: View, course: Course, profile: SpeedProfile) -> FloatArray:
        """Return the velocities ``(K, 2)`` that the drive reaches within the window's time, in the leg's direction."""
        w, drive = self._window, self._drive
        now, turning = abs(view.current.speed), view.current.turn_rate
        if view.current.speed * course.direction < 0.0:
            now = 0.0
        highest = min(now + drive.acceleration * w.reach, max(profile.allowed, 0.0))
        lowest = min(max(now - drive.braking * w.reach, 0.0), highest)
        speeds = np.linspace(lowest, highest, w.speeds) * course.direction
        change, top = drive.turn_acceleration * w.reach, drive.top_turn_rate
        turn_rates = np.linspace(max(turning - change, -top), min(turning + change, top), w.turn_rates)
        # Straight on and as it turns now are always among them.
        turn_rates[np.argmin(np.abs(turn_rates))] = 0.0
        pairs = np.empty((len(speeds), len(turn_rates), 2))
        pairs[:, :, 0], pairs[:, :, 1] = speeds[:, None], turn_rates
        within = np.ones(pairs.shape[:2], bool)
        for by_speed, _, by_turn in drive.rolling_rows:
            rim = by_speed * speeds[:, None] + by_turn * turn_rates
            within &= np.abs(rim, out=rim) <= drive.top_rim_speed + 1e-9
        if drive.turning_radius is not None:
            within &= np.abs(turn_rates) * drive.turning_radius <= np.abs(speeds)[:, None] + 1e-9
        return pairs[within] if np.any(within) else np.zeros((1, 2))

    def _floor(self, view: View) -> tuple[NDArray[np.bool_], NDArray[np.float32], float]:
        if view.floor is None:
            return *OPEN_FLOOR, 1e6
        return view.floor.forbidden, view.floor.clearance, view.floor.grid.cell_size


def _led_on(
    plan: FloatArray, along: FloatArray, direction: int, heading: float, seconds: float
) -> tuple[FloatArray, FloatArray]:
    """Return a leg ``(N, 2)`` and its way ``(N,)`` led on straight beyond its end, for roll-outs that go too far."""
    step = plan[-1] - plan[max(int(np.searchsorted(along, along[-1] - LEADING)) - 1, 0)]
    length = float(np.hypot(step[0], step[1]))
    ahead = step / length if length > 1e-6 else direction * np.array([np.cos(heading), np.sin(heading)])
    return np.vstack([plan, plan[-1] + seconds * ahead]), np.append(along, along[-1] + seconds)
