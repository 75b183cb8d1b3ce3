"""What a health report is made of."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from vinecompass.fusion import Calibration

__all__ = ["Finding", "FrameLink", "Health", "Severity", "StreamHealth"]

Severity = Literal["fatal", "serious", "slight"]
SEVERITIES: tuple[Severity, ...] = ("fatal", "serious", "slight")


@dataclass(frozen=True)
class Finding:
    """One thing that is wrong with a run.

    Parameters
    ----------
    severity : {"fatal", "serious", "slight"}
        Whether later steps will go wrong, may go wrong, or only be less exact.
    stream : str
    fault : str
        What it is, in a few words.
    evidence : str
        The numbers that show it.
    begin, end : float
        When, s.
    advice : str
        What to do about it.
    """

    severity: Severity
    stream: str
    fault: str
    evidence: str
    begin: float
    end: float
    advice: str


@dataclass(frozen=True)
class StreamHealth:
    """A stream in numbers: rows, first and last stamp, median rate (Hz), longest pause (s).

    `jitter` is the share of a period by which two of three periods differ from the median at most.
    """

    rows: int
    begin: float
    end: float
    rate: float
    longest_pause: float
    jitter: float


@dataclass(frozen=True)
class FrameLink:
    """One link of the frame tree: who provides it, and which step suffers where nobody does."""

    parent: str
    child: str
    provider: str | None
    rate: float | None
    needed_for: str


@dataclass(frozen=True)
class Health:
    """The health report of a run.

    Parameters
    ----------
    verdict : {"good", "usable", "broken"}
        No finding; findings, none of them fatal; a fatal one.
    findings : tuple of Finding
        The worst first.
    streams : dict of str to StreamHealth
    missing : dict of str to str
        Streams that were not recorded, and what that will cost later.
    frames : tuple of FrameLink
    clock_offsets : dict of str to float
        How much a stream's clock is behind the wheels' (or odometry's), s, where turning shows it.
    calibration : Calibration or None
        The mount and the wheels as the motion shows them; None where it shows too little.
    untold : tuple of str
        What could not be checked, and why.
    """

    verdict: Literal["good", "usable", "broken"]
    findings: tuple[Finding, ...]
    streams: dict[str, StreamHealth]
    missing: dict[str, str]
    frames: tuple[FrameLink, ...]
    clock_offsets: dict[str, float]
    calibration: Calibration | None
    untold: tuple[str, ...]
