"""Motion from all sensors together, and the mounts and scales that fit it best."""

from vinecompass.fusion.calibration import (
    Calibration,
    EstimatedValue,
    amend_robot_file,
    amended_robot,
    amendments,
    estimate_mount,
)
from vinecompass.fusion.fuse import Fused, choose_odometry, fuse, usual_odometry
from vinecompass.fusion.learned_noise import NOISES, contradictions, learn_noise, noise_advice
from vinecompass.fusion.odometry_fusion import OdometryFusion, SourceReport
from vinecompass.fusion.source_errors import SourceError, compare_sources
from vinecompass.fusion.sweep_time import bent_scans, scanner_track

__all__ = [
    "NOISES",
    "Calibration",
    "EstimatedValue",
    "Fused",
    "OdometryFusion",
    "SourceError",
    "SourceReport",
    "amend_robot_file",
    "amended_robot",
    "amendments",
    "bent_scans",
    "choose_odometry",
    "compare_sources",
    "contradictions",
    "estimate_mount",
    "fuse",
    "learn_noise",
    "noise_advice",
    "scanner_track",
    "usual_odometry",
]
