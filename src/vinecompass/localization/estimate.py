"""What the filter says after a scan."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.localization.clusters import Cluster
from vinecompass.localization.drift import Drift
from vinecompass.localization.scan_agreement import ScanAgreement
from vinecompass.localization.state import State

__all__ = ["Estimate", "Snapshot"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Estimate:
    """Where the robot is believed to be.

    Parameters
    ----------
    t : float
        Stamp of the scan, s.
    pose : array, (3,)
        Mean of the heaviest cluster of particles in the site frame, m and radians.
    covariance : array, (3, 3)
        Of the cluster about it and of the map's own walls, m2, m rad and rad2.
    state : {"searching", "settling", "tracking", "doubtful", "lost"}
        As in `StateWatch`.
    reason : str
        Why.
    agreement : float
        Share of the beams that agree with the map at `pose`, 0 to 1, as in `ScanAgreement`; `nan` without beams.
    clusters : list of Cluster
        All answers that the particles give, the heaviest first.
    particles : int
        How many there are.
    effective_sample_size : float
        ``1 / sum(weights**2)``, before resampling.
    drift : Drift
        Where the track frame lies in the site, without jumps.
    has_rival : bool
        Whether a scan fitted better elsewhere, which a look from farther on will tell.
    """

    t: float
    pose: FloatArray
    covariance: FloatArray
    state: State
    reason: str
    agreement: float
    clusters: list[Cluster]
    particles: int
    effective_sample_size: float
    drift: Drift
    has_rival: bool = False

    @property
    def ambiguous(self) -> bool:
        """Whether it may be in one of several places, of which none stands for the belief."""
        return not self.settled and not self.clusters[0].wins

    @property
    def settled(self) -> bool:
        """Whether it can be driven by."""
        return self.state == "tracking"


@dataclass(frozen=True)
class Snapshot:
    """The filter after a scan, to be drawn.

    Parameters
    ----------
    estimate : Estimate
    particles : array, (N, 3)
        In the site frame.
    weights : array, (N,)
        Sum to 1.
    scan : ScanAgreement
        The last scan from the estimate, beam by beam.
    """

    estimate: Estimate
    particles: FloatArray
    weights: FloatArray
    scan: ScanAgreement
