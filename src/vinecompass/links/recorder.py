"""Collects the simulator's readings into a run."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from vinecompass.motion import Command
from vinecompass.robot import Robot
from vinecompass.runs import Commands, Run, Scans, Track, Wheels, columns_of
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
        """Keep one scan period."""
        self._commands.append(command)
        self._periods.append(readings)

    @property
    def contacts(self) -> int:
        """Scan periods in which the body touched anything."""
        return sum(period.contact for period in self._periods)

    @property
    def velocities(self) -> NDArray[np.float64]:
        """The body's true speeds ahead and to the left and turn rates ``(N, 3)`` every 0.01 s."""
        return np.concatenate([np.zeros((0, 3)), *(period.velocities for period in self._periods)])

    def run(self, site_toml: str | None) -> Run:
        """Return everything kept as a run."""
        readings = self._periods
        stamps = np.array([r.scan.t for r in readings])
        first = Track(np.array([stamps[0]]), self._start[None])
        drive = self._robot.drive
        at_rest = Wheels(stamps[:1], np.zeros((1, len(drive.wheel_names))), np.zeros(1) if drive.steered else None)
        return Run(
            robot=self._robot,
            start=self._start,
            site_toml=site_toml,
            scans=Scans(stamps, np.array([r.scan.ranges for r in readings])),
            wheels=_joined([at_rest, *(r.wheels for r in readings)]),
            imu=_joined([r.imu for r in readings]),
            position=None if readings[0].position is None else _joined([r.position for r in readings]),
            odometry=_joined(self._odometry) if self._odometry else None,
            truth=_joined([first, *(r.truth for r in readings)]),
            commands=Commands(
                stamps, np.array([c.speed for c in self._commands]), np.array([c.turn_rate for c in self._commands])
            ),
        )


def _joined(parts: list[Any]) -> Any:
    columns = [columns_of(part) for part in parts]
    return type(parts[0])(**{name: np.concatenate([each[name] for each in columns]) for name in columns[0]})
