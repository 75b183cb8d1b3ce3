"""The path follower: steers along a plan, arrives at its end, and then turns to the wanted heading."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from vinecompass.errors import InputError
from vinecompass.files import Model, Positive
from vinecompass.geometry import distance_along, relative, wrap_angle
from vinecompass.robot import Command, Robot, limit_command

__all__ = ["FollowingSettings", "PathFollower"]

FloatArray = NDArray[np.float64]
Phase = Literal["turning", "driving", "closing in", "aligning", "arrived"]
CLOSING_DISTANCE = 0.35
"""Metres from the end within which it aims at the end itself."""


class FollowingSettings(Model):
    """The ``[following]`` table of the settings."""

    cruise_speed: Positive = Field(0.9, description="m/s; the robot's own limit holds besides")
    tight_speed: Positive = Field(0.3, description="speed where the body just fits, m/s")
    tight_gap: Positive = Field(0.5, description="gap beside the body from which it cruises, m")
    look_ahead: Positive = Field(0.4, description="how far ahead on the path it aims at standstill, m")
    look_ahead_time: Positive = Field(0.5, description="and how much farther per m/s, s")
    sideways_acceleration: Positive = Field(0.5, description="highest in curves, m/s2")
    position_tolerance: Positive = Field(0.04, description="the position is reached within this, m")
    heading_tolerance_deg: Positive = Field(1.5, description="the heading is reached within this, degrees")


class PathFollower:
    """Follows one path at a time with a robot that turns on the spot.

    Parameters
    ----------
    robot : Robot
    settings : FollowingSettings, optional

    Attributes
    ----------
    phase : str
        "turning" on the spot towards the path, "driving" along it, "closing in" on its end, "aligning" the heading
        there, or "arrived".

    Notes
    -----
    Pure pursuit (Coulter, 1992) with the speed bounded by curvature, by the gap beside the body, and by what can
    still be braked before the end.
    """

    def __init__(self, robot: Robot, *, settings: FollowingSettings | None = None) -> None:
        robot.need_differential("the path follower")
        self._drive = robot.drive
        self._settings = settings or FollowingSettings()
        self.phase: Phase = "arrived"
        self._poses: FloatArray = np.zeros((0, 3))
        self._gaps: FloatArray = np.zeros(0)
        self._along: FloatArray = np.zeros(0)
        self._nearest = 0

    def follow(self, poses: FloatArray, gaps: FloatArray | None = None) -> None:
        """Take up a path.

        Parameters
        ----------
        poses : array, (N, 3)
            From where the robot is to where it shall end, the last heading being the one to end with.
        gaps : array, (N,), optional
            Free space beside the body at each pose, m; plenty if not given.
        """
        if len(poses) == 0:
            raise InputError("has no pose", key="poses", expected="one pose or more, (N, 3)")
        self._poses, self._along, self._nearest = poses, distance_along(poses), 0
        self._gaps = np.full(len(poses), np.inf) if gaps is None else gaps
        if self.phase == "arrived" or self.phase == "aligning":
            self.phase = "turning"

    @property
    def remaining(self) -> FloatArray:
        """The part of the path still ahead ``(M, 3)``."""
        return self._poses[self._nearest :]

    def step(self, pose: FloatArray, current: Command, duration: float) -> Command:
        """Return the command for the next `duration` seconds.

        Parameters
        ----------
        pose : array, (3,)
            In the frame of the path.
        current : Command
            The last one given: the new one differs from it by no more than the drive can change.
        duration : float
        """
        wanted = self._wanted(pose, current)
        return limit_command(wanted, current, duration, self._drive)

    def _wanted(self, pose: FloatArray, current: Command) -> Command:
        s = self._settings
        if len(self._poses) == 0:
            return Command()
        end = relative(self._poses[-1], pose)
        distance = float(np.hypot(end[0], end[1]))
        if self.phase in ("aligning", "arrived"):
            return self._align(float(end[2]), distance)
        self._advance(pose)
        remaining = float(self._along[-1] - self._along[self._nearest])
        if distance < s.position_tolerance and remaining < CLOSING_DISTANCE:
            self.phase = "aligning"
            return self._align(float(end[2]), distance)
        if remaining < CLOSING_DISTANCE and distance < CLOSING_DISTANCE:
            self.phase = "closing in" if self.phase == "driving" else self.phase
            target = end
        else:
            target = relative(self._poses[self._aim(pose, abs(current.speed))], pose)
        bearing = float(np.arctan2(target[1], target[0]))
        # Turning on the spot ends well inside the bearing that starts it, so that it does not flutter.
        limit = np.radians(12.0 if self.phase == "turning" else 30.0 if self.phase == "closing in" else 60.0)
        if abs(bearing) > limit:
            self.phase = "turning"
            return Command(0.0, self._turn(bearing) if abs(current.speed) < 0.05 else 0.0)
        self.phase = "closing in" if target is end else "driving"
        curvature = 2.0 * np.sin(bearing) / max(float(np.hypot(target[0], target[1])), 0.1)
        speed = self._speed(abs(curvature), max(remaining, distance) if target is end else remaining)
        return Command(speed, speed * curvature)

    def _advance(self, pose: FloatArray) -> None:
        """Move the nearest index along the path, never back, and never past a stretch not yet driven."""
        ahead = np.searchsorted(self._along, self._along[self._nearest] + 1.0, side="right")
        window = self._poses[self._nearest : max(int(ahead), self._nearest + 1), :2]
        self._nearest += int(np.argmin(np.hypot(*(window - pose[:2]).T)))

    def _aim(self, pose: FloatArray, speed: float) -> int:
        s = self._settings
        reach = s.look_ahead + s.look_ahead_time * speed
        aim = np.searchsorted(self._along, self._along[self._nearest] + reach)
        return min(int(aim), len(self._poses) - 1)

    def _speed(self, curvature: float, remaining: float) -> float:
        s, drive = self._settings, self._drive
        ahead = int(np.searchsorted(self._along, self._along[self._nearest] + 0.5, side="right"))
        gap = float(np.min(self._gaps[self._nearest : max(ahead, self._nearest + 1)]))
        cruise = min(s.cruise_speed, drive.top_speed)
        tight = min(s.tight_speed, cruise)
        speed = tight + (cruise - tight) * float(np.clip(gap / s.tight_gap, 0.0, 1.0))
        if curvature > 1e-6:
            speed = min(speed, np.sqrt(s.sideways_acceleration / curvature), 0.8 * drive.top_turn_rate / curvature)
        # Half the braking the robot has, and slower at the very end: the last centimetres are crept.
        return float(max(min(speed, np.sqrt(drive.braking * remaining), 0.05 + 1.2 * remaining), 0.05))

    def _turn(self, angle: float) -> float:
        """Turn rate towards an angle, slow enough to stop there with half the drive's turning power."""
        drive = self._drive
        rate = min(np.sqrt(drive.turn_acceleration * abs(angle)), 1.5 * abs(angle) + 0.05, 0.8 * drive.top_turn_rate)
        return float(np.copysign(rate, angle))

    def _align(self, angle: float, distance: float) -> Command:
        s = self._settings
        if distance > 3.0 * s.position_tolerance:
            # Pushed or relocated off the spot: close in again.
            self.phase = "turning"
            return Command()
        if abs(float(wrap_angle(angle))) < np.radians(s.heading_tolerance_deg):
            self.phase = "arrived"
            return Command()
        if self.phase == "arrived" and abs(angle) < 2.0 * np.radians(s.heading_tolerance_deg):
            return Command()
        self.phase = "aligning"
        return Command(0.0, self._turn(angle))
