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
from vinecompass.fusion.turning import HeadingSource, clock_offset, turn_ratio

__all__ = [
    "NOISES",
    "Calibration",
    "EstimatedValue",
    "Fused",
    "HeadingSource",
    "OdometryFusion",
    "SourceError",
    "SourceReport",
    "amend_robot_file",
    "amended_robot",
    "amendments",
    "bent_scans",
    "choose_odometry",
    "clock_offset",
    "compare_sources",
    "contradictions",
    "estimate_mount",
    "fuse",
    "learn_noise",
    "noise_advice",
    "scanner_track",
    "turn_ratio",
    "usual_odometry",
]
