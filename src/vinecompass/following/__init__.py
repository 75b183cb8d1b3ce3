"""Floor 5: local planning, from a global plan to the next command."""

from vinecompass.following.band import Band, BandSettings, draw_tight, first_guess
from vinecompass.following.choice import local_planner
from vinecompass.following.course import Course
from vinecompass.following.local_planner import Considered, LocalPlan, LocalPlanner, View
from vinecompass.following.obstacle import Obstacle
from vinecompass.following.path_follower import PathFollower
from vinecompass.following.people_rules import Encounter, PeopleRule, PeopleSettings, meet
from vinecompass.following.relations import Relation, relate
from vinecompass.following.settings import FollowingSettings, WindowSettings
from vinecompass.following.speed_profile import SpeedProfile
from vinecompass.following.time_band import TimeBand
from vinecompass.following.velocity_window import VelocityWindow

__all__ = [
    "Band",
    "BandSettings",
    "Considered",
    "Course",
    "Encounter",
    "FollowingSettings",
    "LocalPlan",
    "LocalPlanner",
    "Obstacle",
    "PathFollower",
    "PeopleRule",
    "PeopleSettings",
    "Relation",
    "SpeedProfile",
    "TimeBand",
    "VelocityWindow",
    "View",
    "WindowSettings",
    "draw_tight",
    "first_guess",
    "local_planner",
    "meet",
    "relate",
]
