"""The local planner that the settings choose."""

from __future__ import annotations

from collections.abc import Callable

from vinecompass.errors import InputError
from vinecompass.following.band.time_band import TimeBand
from vinecompass.following.local_planner import LocalPlanner
from vinecompass.following.path_follower import PathFollower
from vinecompass.following.window.velocity_window import VelocityWindow
from vinecompass.robot import Robot
from vinecompass.settings import Settings

__all__ = ["LOCAL_PLANNERS", "local_planner"]

LOCAL_PLANNERS: dict[str, Callable[[Robot, Settings], LocalPlanner]] = {
    "window": lambda robot, s: VelocityWindow(robot, settings=s.following, window=s.window, people=s.people),
    "band": lambda robot, s: TimeBand(robot, settings=s.following, band=s.band, people=s.people),
    "path": lambda robot, s: PathFollower(robot, settings=s.following),
}
"""How each local planner is made, by its name in the settings."""


def local_planner(robot: Robot, settings: Settings) -> LocalPlanner:
    """Return the local planner that ``following.planner`` names, or raise `InputError` that lists the known ones."""
    name = settings.following.planner
    if name not in LOCAL_PLANNERS:
        raise InputError(
            "is no local planner", key="following.planner", value=name, expected=f"one of {', '.join(LOCAL_PLANNERS)}"
        )
    return LOCAL_PLANNERS[name](robot, settings)
