"""Floor 5: local planning, from a global plan to the next command."""

from vinecompass.following.choice import local_planner
from vinecompass.following.course import Course
from vinecompass.following.local_planner import Considered, LocalPlan, LocalPlanner, View
from vinecompass.following.path_follower import PathFollower
from vinecompass.following.settings import FollowingSettings, WindowSettings
from vinecompass.following.speed_profile import SpeedProfile
from vinecompass.following.velocity_window import VelocityWindow

__all__ = [
    "Considered", "Course", "FollowingSettings", "LocalPlan", "LocalPlanner", "PathFollower", "SpeedProfile",
    "VelocityWindow", "View", "WindowSettings", "local_planner",
]  # fmt: skip
