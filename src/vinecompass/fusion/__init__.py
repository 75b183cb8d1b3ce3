"""Floor 3: motion from all sensors together, and the mounts and scales that fit it best."""

from vinecompass.fusion.calibration import Calibration, EstimatedValue, amended_robot, amendments, estimate_mount
from vinecompass.fusion.fuse import Fused, cleaned, fuse, usual_odometry
from vinecompass.fusion.odometry_fusion import OdometryFusion, SourceReport

__all__ = [
    "Calibration",
    "EstimatedValue",
    "Fused",
    "OdometryFusion",
    "SourceReport",
    "amended_robot",
    "amendments",
    "cleaned",
    "estimate_mount",
    "fuse",
    "usual_odometry",
]
