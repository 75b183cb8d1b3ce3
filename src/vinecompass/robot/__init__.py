"""Floor 0, beside geometry: the robot as its file describes it."""

from vinecompass.robot.drive import Command, braked_on_its_curve, limit_command
from vinecompass.robot.kinematics import body_velocity, steering_angle, wheel_speeds
from vinecompass.robot.lidar import Lidar
from vinecompass.robot.robot import Body, Drive, Inertial, OmniWheel, Positioning, Robot, WheelSensor, read_robot

__all__ = [
    "Body",
    "Command",
    "Drive",
    "Inertial",
    "Lidar",
    "OmniWheel",
    "Positioning",
    "Robot",
    "WheelSensor",
    "body_velocity",
    "braked_on_its_curve",
    "limit_command",
    "read_robot",
    "steering_angle",
    "wheel_speeds",
]
