"""How each kind of drive moves: its limits, the velocities within its reach, and one step of motion."""

from vinecompass.motion.command import Command
from vinecompass.motion.kinds import Kind, kind_of
from vinecompass.motion.limits import (
    MotionLimits,
    braked_on_its_curve,
    done_of,
    limit_command,
    limits_of,
    raised_to_least,
    reachable_velocities,
)
from vinecompass.motion.wheels import (
    body_velocity,
    rolling_of,
    steering_angle,
    unrolling_of,
    wheel_places,
    wheel_radii,
    wheel_speeds,
)

__all__ = [
    "Command",
    "Kind",
    "MotionLimits",
    "body_velocity",
    "braked_on_its_curve",
    "done_of",
    "kind_of",
    "limit_command",
    "limits_of",
    "raised_to_least",
    "reachable_velocities",
    "rolling_of",
    "steering_angle",
    "unrolling_of",
    "wheel_places",
    "wheel_radii",
    "wheel_speeds",
]
