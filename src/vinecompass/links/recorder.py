"""Collects the simulator's readings into a run."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.motion import Command
from vinecompass.robot import Robot
from vinecompass.runs import Commands, Run, Track, Wheels, joined
from vinecompass.simulation import SimulatedPeriod

__all__ = ["Recorder"]


class Recorder:
    """Keeps everything read and commanded, and what was true, until the drive is over."""

    def __init__(self, robot: Robot, start: NDArray[np.float64]) -> None:
        self._robot = robot
        self._start = np.array(start)
        self._periods: list[SimulatedPeriod] = []
        self._commands: list[Command] = []
        self._odometry: list[Track] = []

    def add_odometry(self, track: Track) -> None:
        """Keep what of a track is later than what is kept already."""
        last = self._odometry[-1].t[-1] if self._odometry else -np.inf
        first = int(np.searchsorted(track.t, last, side="right"))
        if first < len(track):
            self._odometry.append(Track(track.t[first:], track.poses[first:]))

    def add(self, command: Command, readings: SimulatedPeriod) -> None:
        """Keep what a command brought."""
        self._commands.append(command)
        self._periods.append(readings)

    @property
    def contacts(self) -> int:
        """Steps in which the body touched anything."""
        return sum(period.contact for period in self._periods)

    @property
    def velocities(self) -> NDArray[np.float64]:
        """The body's true speeds ahead and to the left and turn rates ``(N, 3)`` every 0.01 s."""
        return np.concatenate([np.zeros((0, 3)), *(period.velocities for period in self._periods)])

    def run(self, site_toml: str | None) -> Run:
        """Return everything kept as a run."""
        readings = self._periods
        stamps = np.array([r.begun for r in readings])
        first = Track(stamps[:1], self._start[None])
        drive = self._robot.drive
        positions = [r.position for r in readings if r.position is not None]
        at_rest = Wheels(stamps[:1], np.zeros((1, len(drive.wheel_names))), np.zeros(1) if drive.steered else None)
        return Run(
            robot=self._robot,
            start=self._start,
            site_toml=site_toml,
            scans=joined([r.scans for r in readings]),
            wheels=joined([at_rest, *(r.wheels for r in readings)]),
            imu=joined([r.imu for r in readings]),
            position=joined(positions) if positions else None,
            odometry=joined(self._odometry) if self._odometry else None,
            truth=joined([first, *(r.truth for r in readings)]),
            commands=Commands(
                stamps, np.array([c.speed for c in self._commands]), np.array([c.turn_rate for c in self._commands])
            ),
        )
