"""The global plan for the loop: a cheap one first, and one that minds the heading where the body cannot turn."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.costs import BodyCheck, CostMap
from vinecompass.geometry import wrap_heading
from vinecompass.planning import Plan, PlanSettings, plan_path
from vinecompass.robot import Robot

__all__ = ["plan_for_loop", "turn_fits"]

FloatArray = NDArray[np.float64]
SMALL_TURN = 0.2
"""Radians that are not checked: less than a tenth of them is lost in any cell."""


def plan_for_loop(
    costmap: CostMap, robot: Robot, start: FloatArray, goal: FloatArray, *, settings: PlanSettings, explain: bool
) -> Plan:  # fmt: skip
    """Plan from where the robot is to a stop.

    The usual plan leaves it to the robot to turn on the spot at either end. Where there is no room for that, as between
    two racks, a lattice is searched: it comes in the right way round, or backs in.

    Parameters
    ----------
    costmap : CostMap
    robot : Robot
    start, goal : array, (3,)
        In the site frame, m and radians.
    settings : PlanSettings
    explain : bool
        Whether to find out what is in the way if there is none.
    """
    usual = plan_path(costmap, robot, start, goal, settings=settings, explain=explain)
    if not usual.found or usual.method == "lattice" or len(usual.poses) < 2:
        return usual
    check = BodyCheck(costmap, robot)
    first, last = usual.poses[1] - usual.poses[0], usual.poses[-1] - usual.poses[-2]
    fits_first = turn_fits(check, start, float(np.arctan2(first[1], first[0])))
    arriving = np.array([goal[0], goal[1], np.arctan2(last[1], last[0])])
    if fits_first and turn_fits(check, arriving, float(goal[2])):
        return usual
    place = "at the stop" if fits_first else "where it stands"
    minding = plan_path(costmap, robot, start, goal, method="lattice", settings=settings, explain=False)
    if minding.found:
        return minding
    # Never worse than trying: recovery deals with what does not work out.
    return (
        usual if not explain else replace(minding, reason=f"no room to turn {place}, and no way to come in otherwise")
    )


def turn_fits(check: BodyCheck, pose: FloatArray, heading: float) -> bool:
    """Tell whether the body can turn on the spot from a pose ``(3,)`` to a heading, one way round or the other."""
    short = wrap_heading(heading - float(pose[2]))
    if abs(short) < SMALL_TURN:
        return True
    for turn in (short, short - float(np.copysign(2.0 * np.pi, short))):
        angles = np.linspace(0.0, turn, int(abs(turn) / 0.08) + 2)
        poses = np.column_stack([np.tile(pose[:2], (len(angles), 1)), pose[2] + angles])
        if np.all(check.touched(poses)[1:] < 0):
            return True
    return False
