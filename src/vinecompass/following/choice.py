"""The local planner that the settings choose."""

from __future__ import annotations

from vinecompass.following.band.time_band import TimeBand
from vinecompass.following.local_planner import LocalPlanner
from vinecompass.following.path_follower import PathFollower
from vinecompass.following.window.velocity_window import VelocityWindow
from vinecompass.robot import Robot
from vinecompass.settings import BandSettings, FollowingSettings, PeopleSettings, WindowSettings

__all__ = ["local_planner"]


def local_planner(
    robot: Robot, following: FollowingSettings, window: WindowSettings, band: BandSettings, people: PeopleSettings
) -> LocalPlanner:
    """Return the local planner that ``following.planner`` names."""
    if following.planner == "path":
        return PathFollower(robot, settings=following)
    if following.planner == "band":
        return TimeBand(robot, settings=following, band=band, people=people)
    return VelocityWindow(robot, settings=following, window=window, people=people)
