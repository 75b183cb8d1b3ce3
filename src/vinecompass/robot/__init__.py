"""Floor 0, beside geometry: the robot as its file describes it."""

from vinecompass.robot.drive import Command, limit_command
from vinecompass.robot.lidar import Lidar
from vinecompass.robot.robot import Body, Drive, Inertial, Robot, WheelSensor, read_robot

__all__ = [
    "Body", "Command", "Drive", "Inertial", "Lidar", "Robot", "WheelSensor",
    "limit_command", "read_robot",
]  # fmt: skip
