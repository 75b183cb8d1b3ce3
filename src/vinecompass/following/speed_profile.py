"""How fast a course may be driven: by its curves, by the gap beside the body, by slow zones, and by where it ends."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.costs import CostMap
from vinecompass.following.course import Course
from vinecompass.following.kernels import turned_over
from vinecompass.robot import Robot
from vinecompass.settings import FollowingSettings

__all__ = ["RESERVE", "SpeedProfile"]

FloatArray = NDArray[np.float64]
LOOKED_AHEAD = 3.0
"""Metres ahead that are looked at, at least: as far as it takes to stop with half the drive's braking."""
RESERVE = 0.97
"""Share of the drive's own top speed that is used: wheels that creep a little must not take the body beyond it."""
TIGHT_AHEAD = 1.2
"""Metres ahead that count for tightness: about the body's own length."""
BASE = 0.8
"""Metres of path over which its curvature is measured."""
SLOWEST_ON_THE_WAY = 0.05
"""m/s. It is never slower than this where it may drive at all, or it would never arrive."""


class SpeedProfile:
    """The allowed speed here and at the poses ahead.

    Each pose of the leg ahead has a cap; the allowed speed here is the highest from which half the drive's braking
    still keeps them all, the end of the leg being a cap of zero.

    Parameters
    ----------
    course : Course
    floor : CostMap or None
    robot : Robot
    settings : FollowingSettings
    cap : float
        What safety allows besides, m/s.
    capped_by : str
        Why, as "near a person".

    Attributes
    ----------
    allowed : float
        Here, m/s.
    on_floor : float
        What cruising, tight places, slow zones and safety alone allow here, m/s.
    tightness : float
        0 where there is room beside the body all along the next metre, 1 where it just fits somewhere.
    reason : str
        What limits it; empty at cruising speed.
    """

    def __init__(
        self,
        course: Course,
        floor: CostMap | None,
        robot: Robot,
        settings: FollowingSettings,
        *,
        cap: float = np.inf,
        capped_by: str = "",
    ) -> None:
        s, drive = settings, robot.drive
        top = drive.top_speed if course.direction > 0 else drive.reverse_speed
        looked_ahead = max(LOOKED_AHEAD, top**2 / drive.braking)
        last = course.ahead(looked_ahead)
        poses = course.poses[course.nearest : last + 1]
        way = course.along[course.nearest : last + 1] - course.along[course.nearest]
        cruise = min(s.cruise_speed, RESERVE * top)
        self.tightness = 0.0
        slowing = drive.braking * way

        def kept(caps: FloatArray) -> float:
            """Return the highest speed here from which the caps at all poses ahead are kept."""
            return float(np.sqrt((caps * caps + slowing).min()))

        allowed = {"for cruising": cruise}
        if len(poses) > 2:
            allowed["for a curve"] = kept(np.maximum(_curve_caps(poses, way, robot, s), SLOWEST_ON_THE_WAY))
        if floor is not None:
            last_row, last_column = floor.grid.shape[0] - 1, floor.grid.shape[1] - 1
            rows, columns = floor.grid.cells_at(poses[:, :2]).T
            rows, columns = rows.clip(0, last_row), columns.clip(0, last_column)
            gaps = floor.clearance[rows, columns].astype(float) - robot.body.inner_radius
            room = (gaps / s.tight_gap).clip(0.0, 1.0)
            tight = min(s.tight_speed, cruise)
            self.tightness = 1.0 - float(room[way <= TIGHT_AHEAD].min())
            allowed["for a tight place"] = kept(tight + (cruise - tight) * room)
            if floor.top_speeds is not None:
                allowed["for a slow zone"] = kept(floor.top_speeds[rows, columns].astype(float))
        allowed[capped_by] = cap
        self.on_floor = min(speed for name, speed in allowed.items() if name != "for a curve")
        if last == len(course.poses) - 1 or course.left <= looked_ahead:
            allowed["for the end of the leg"] = max(float(np.sqrt(drive.braking * course.left)), SLOWEST_ON_THE_WAY)
        name = min(allowed, key=lambda each: allowed[each])
        self.allowed = allowed[name]
        self.reason = "" if name == "for cruising" else f"{self.allowed:.2f} m/s {name}"


def _curve_caps(poses: FloatArray, way: FloatArray, robot: Robot, settings: FollowingSettings) -> FloatArray:
    """Return what curves allow at each pose, by sideways acceleration and by the drive's turn rate.

    A curve is what turns over `BASE` metres: the corners of a polyline are no curves of their own.
    """
    curvature = np.maximum(np.abs(turned_over(poses, way, BASE)) / BASE, 1e-3)
    by_turn_rate = 0.9 * robot.drive.top_turn_rate / curvature
    return np.asarray(np.minimum(np.sqrt(settings.sideways_acceleration / curvature), by_turn_rate))
