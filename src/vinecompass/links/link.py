"""The seam between a robot and who drives it: a command goes out, readings come in."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray

from vinecompass.contact import Walking
from vinecompass.motion import Command
from vinecompass.runs import Run, Scan, Track

__all__ = ["Readings", "RobotLink", "Witness"]


@dataclass(frozen=True)
class Readings:
    """What a robot reads in one cycle.

    Parameters
    ----------
    t : float
        Now, by the robot's clock, s.
    scans : mapping of str to Scan
        The last whole scan of each lidar, by the lidar's name.
    odometry : Track
        Poses in the track frame, from the first beam of the oldest of these scans at the latest until now.
    people : sequence of Walking
        Where people are, from whoever tracks them.
    last : bool
        Whether nothing comes after it, as at the end of a recorded run.
    """

    t: float
    scans: Mapping[str, Scan]
    odometry: Track
    people: Sequence[Walking] = ()
    last: bool = False


class RobotLink(Protocol):
    """A robot, whatever stands behind it: the simulator, a recorded run, or a real one.

    Examples
    --------
    A link of your own is any object with this one method::

        class MyRobot:
            def exchange(self, command):
                self.base.send(command.speed, command.turn_rate)
                scan, track = self.wait_for_next_scan()
                return Readings(now(), {"front": scan}, track)
    """

    def exchange(self, command: Command) -> Readings:
        """Give the command for the next cycle, wait until that is over, and return what was read meanwhile."""


@runtime_checkable
class Witness(Protocol):
    """A link that knows what truly happened, to judge by and never to steer by."""

    @property
    def t(self) -> float:
        """The true time, s, whatever the robot's clock says."""

    @property
    def pose(self) -> NDArray[np.float64]:
        """Where the robot truly is ``(3,)`` in the site frame; `nan` where that is not known."""

    @property
    def contacts(self) -> int:
        """In how many cycles the body touched anything."""

    @property
    def velocities(self) -> NDArray[np.float64]:
        """The body's true velocities ``(N, 3)``, 0.01 s apart; empty where they are not known."""

    def run(self, site_toml: str | None = None) -> Run:
        """Return all that was read and commanded, and what is known of the truth, as a run."""
