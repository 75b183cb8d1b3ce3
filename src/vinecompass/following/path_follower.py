"""The path follower: the simple choice, steering at a point ahead on the plan."""

from __future__ import annotations

import numpy as np

from vinecompass.following.course import Course
from vinecompass.following.local_planner import LocalPlan, LocalPlanner, View
from vinecompass.following.speed_profile import SpeedProfile
from vinecompass.geometry import compose, relative, wrap_heading
from vinecompass.motion import Command

__all__ = ["PathFollower"]

NEARER_AIM = 0.6
"""Share by which it aims nearer where the body just fits."""


class PathFollower(LocalPlanner):
    """Steers at a point ahead on the plan, at a speed that its curves and the gap beside the body allow.

    It follows the plan whatever is in its way: stopping is then the business of safety, and another plan's.
    A differential drive and a car steer along the circle through the point; an omni drive goes straight at it,
    and turns meanwhile towards the plan's heading.

    Parameters
    ----------
    robot : Robot
    settings : FollowingSettings, optional

    Notes
    -----
    Pure pursuit (Coulter, 1992), regulated by curvature and clearance.

    Examples
    --------
    >>> from vinecompass import Command, demo_file, read_robot
    >>> follower = PathFollower(read_robot(demo_file("robot.toml")))
    >>> follower.follow([[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [2.0, 0.0, 0.0]])
    >>> follower.step([0.0, 0.0, 0.0], Command(), 0.1).command.velocity.round(3).tolist()
    [0.07, 0.0, 0.0]
    """

    def drive_on(self, view: View, course: Course, profile: SpeedProfile) -> LocalPlan:
        """Steer along the circle through a point ahead on the plan."""
        s = self._settings
        # Where it will be at the middle of the next period, if it goes on as it does.
        here = compose(view.pose, 0.5 * view.duration * view.current.velocity)
        # Aiming far ahead cuts corners: in a tight place there is no room for that.
        reach = (1.0 - NEARER_AIM * profile.tightness) * (s.look_ahead + s.look_ahead_time * abs(view.current.speed))
        aim = course.ahead(reach)
        target = self._from_behind(relative(course.poses[aim], here), course)
        distance = max(float(np.hypot(target[0], target[1])), 0.1)
        bearing = float(np.arctan2(target[1], target[0]))
        poses = course.poses[course.nearest : aim + 1]
        if self._limits.goes_sideways:
            speed, sign = profile.allowed, course.direction
            turn = 1.5 * wrap_heading(float(course.poses[max(aim - 1, 0), 2] - view.pose[2]))
            wanted = Command(
                sign * speed * float(np.cos(bearing)), turn_rate=turn, sideways=sign * speed * float(np.sin(bearing))
            )
            return self.wanting(view, wanted, profile.reason, poses)
        curvature = 2.0 * float(np.sin(bearing)) / distance
        if not self._limits.turns_on_the_spot:
            tightest = 1.0 / self._limits.turning_radius
            curvature = float(np.clip(curvature, -tightest, tightest))
        speed, reason = profile.allowed, profile.reason
        if abs(curvature) > 1e-6:
            by_curve = min(
                np.sqrt(s.sideways_acceleration / abs(curvature)), 0.9 * self._limits.top_turn_rate / abs(curvature)
            )
            if by_curve < speed:
                speed, reason = float(by_curve), f"{by_curve:.2f} m/s for steering back to the plan"
        return self.wanting(view, Command(course.direction * speed, turn_rate=speed * curvature), reason, poses)
