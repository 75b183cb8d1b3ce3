"""Motion from all sensors together, and the mounts and scales that fit it best."""

from vinecompass.fusion.bad_imu import without_bad_accelerations
from vinecompass.fusion.calibrating.calibration import (
    Calibration,
    EstimatedValue,
    amend_robot_file,
    amended_robot,
    amendments,
    estimate_mount,
)
from vinecompass.fusion.calibrating.file_errors import lidar_elsewhere, turned_lidar, wrong_sizes
from vinecompass.fusion.calibrating.learned_noise import NOISES, contradictions, learn_noise, noise_advice
from vinecompass.fusion.calibrating.sweep_time import scanner_track
from vinecompass.fusion.calibrating.turning import HeadingSource, clock_offset, turn_ratio
from vinecompass.fusion.fuse import Fused, choose_odometry, fuse, usual_fusion, usual_odometry
from vinecompass.fusion.odometry_fusion import OdometryFusion, SourceReport
from vinecompass.fusion.source_errors import SourceError, compare_sources
from vinecompass.fusion.standing_wheels import StandingWheels, standing_wheels

__all__ = [
    "NOISES",
    "Calibration",
    "EstimatedValue",
    "Fused",
    "HeadingSource",
    "OdometryFusion",
    "SourceError",
    "SourceReport",
    "StandingWheels",
    "amend_robot_file",
    "amended_robot",
    "amendments",
    "choose_odometry",
    "clock_offset",
    "compare_sources",
    "contradictions",
    "estimate_mount",
    "fuse",
    "learn_noise",
    "lidar_elsewhere",
    "noise_advice",
    "scanner_track",
    "standing_wheels",
    "turn_ratio",
    "turned_lidar",
    "usual_fusion",
    "usual_odometry",
    "without_bad_accelerations",
    "wrong_sizes",
]
