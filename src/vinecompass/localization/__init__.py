"""Where the robot is in a map, how sure that is, and what if it is wrong."""

from vinecompass.localization.clusters import Cluster
from vinecompass.localization.drift import Drift, DriftFollower
from vinecompass.localization.estimate import Estimate, Snapshot
from vinecompass.localization.localize import Localization, localize
from vinecompass.localization.motion_model import MotionNoise, learn_motion_noise
from vinecompass.localization.obstacles_of_scan import obstacles_of_scan
from vinecompass.localization.particle_localizer import ParticleLocalizer
from vinecompass.localization.place_search import Place, find_places
from vinecompass.localization.scan_agreement import Disagreement, ScanAgreement
from vinecompass.localization.second_opinion import SecondOpinion
from vinecompass.localization.state import State, StateChange
from vinecompass.localization.telling_drive import TellingDrive

__all__ = [
    "Cluster",
    "Disagreement",
    "Drift",
    "DriftFollower",
    "Estimate",
    "Localization",
    "MotionNoise",
    "ParticleLocalizer",
    "Place",
    "ScanAgreement",
    "SecondOpinion",
    "Snapshot",
    "State",
    "StateChange",
    "TellingDrive",
    "find_places",
    "learn_motion_noise",
    "localize",
    "obstacles_of_scan",
]
