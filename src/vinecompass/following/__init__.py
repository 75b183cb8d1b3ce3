"""Local planning, from a global plan to the next command."""

from vinecompass.following.band.band import Band, draw_tight, first_guess
from vinecompass.following.band.obstacle import Obstacle
from vinecompass.following.band.time_band import TimeBand
from vinecompass.following.choice import local_planner
from vinecompass.following.course import Course
from vinecompass.following.local_planner import Considered, LocalPlan, LocalPlanner, View
from vinecompass.following.path_follower import PathFollower
from vinecompass.following.people.relations import Relation, relate
from vinecompass.following.people.rules import Encounter, meet, share_in_company
from vinecompass.following.speed_profile import SpeedProfile
from vinecompass.following.window.velocity_window import VelocityWindow

__all__ = [
    "Band",
    "Considered",
    "Course",
    "Encounter",
    "LocalPlan",
    "LocalPlanner",
    "Obstacle",
    "PathFollower",
    "Relation",
    "SpeedProfile",
    "TimeBand",
    "VelocityWindow",
    "View",
    "draw_tight",
    "first_guess",
    "local_planner",
    "meet",
    "relate",
    "share_in_company",
]
