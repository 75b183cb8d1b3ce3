"""The robot as its file describes it."""

from vinecompass.robot.lidar import Lidar
from vinecompass.robot.robot import Body, Drive, Inertial, OmniWheel, Positioning, Robot, WheelSensor, read_robot

__all__ = [
    "Body",
    "Drive",
    "Inertial",
    "Lidar",
    "OmniWheel",
    "Positioning",
    "Robot",
    "WheelSensor",
    "read_robot",
]
