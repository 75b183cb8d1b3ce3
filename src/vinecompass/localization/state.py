"""How far the estimate is to be trusted: five states, each change with its reason, none of them hasty."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from vinecompass.localization.clusters import Cluster
from vinecompass.settings import LocalizationSettings

__all__ = ["State", "StateChange", "StateWatch"]

State = Literal["searching", "settling", "tracking", "doubtful", "lost"]
SPREAD_SLACK = 2.0
"""How many times wider than to settle the particles may be spread before tracking is given up."""


@dataclass(frozen=True)
class StateChange:
    """When a state began, and why.

    Parameters
    ----------
    t : float
        Seconds.
    state : {"searching", "settling", "tracking", "doubtful", "lost"}
    reason : str
    """

    t: float
    state: State
    reason: str


class StateWatch:
    """Follows the filter and says what state it is in.

    Attributes
    ----------
    state : {"searching", "settling", "tracking", "doubtful", "lost"}
        ``searching``: no place known that fits. ``settling``: places known, the particles still apart.
        ``tracking``: drawn together where the scan agrees. ``doubtful``: the scan does not agree, or there is none,
        and no other place fits better. ``lost``: another place fits clearly better, or none at all.
    reason : str
        Why.
    """

    def __init__(self, settings: LocalizationSettings, state: State, reason: str) -> None:
        self._settings = settings
        self.state: State = state
        self.reason = reason
        self._wanted: State = state
        self._wanted_since = -np.inf

    def begin(self, t: float, state: State, reason: str) -> None:
        """Take a state at once."""
        self.state = state
        self.reason = reason
        self._wanted = state
        self._wanted_since = t

    def update(
        self,
        t: float,
        clusters: list[Cluster],
        agreement: float,
        *,
        blind_for: float = 0.0,
        fallen: bool = False,
        rival: str = "",
        details: str = "",
    ) -> None:
        """Follow one scan: a change is made when there was reason for it all of the `doubt_time`.

        Parameters
        ----------
        t : float
            The scan's stamp, s.
        clusters : list of Cluster
            The heaviest first.
        agreement : float
            Of the scan with the map, 0 to 1, or `nan`.
        blind_for : float
            Seconds since a beam returned.
        fallen : bool
            Whether scans fit clearly less well than they used to.
        rival : str
            What other place fitted better and is yet to be looked at again; empty if none.
        details : str
            Where beams disagree, to be added to the reason.
        """
        wanted, reason = self._looks(clusters, agreement, blind_for, fallen, rival, details)
        if wanted == self.state:
            # What it is called stays; why may have changed since.
            self._wanted = wanted
            if wanted != "tracking":
                self.reason = reason
            return
        if wanted != self._wanted:
            self._wanted = wanted
            self._wanted_since = t
        if t - self._wanted_since >= self._settings.doubt_time - 1e-9:
            self.begin(t, wanted, reason)

    def _looks(
        self, clusters: list[Cluster], agreement: float, blind_for: float, fallen: bool, rival: str, details: str
    ) -> tuple[State, str]:
        s, winner = self._settings, clusters[0]
        was_sure = self.state in ("tracking", "doubtful")
        unsure: State = "doubtful" if was_sure else self.state
        if blind_for >= s.blind_time:
            return unsure, f"no beam has returned for {blind_for:.1f} s"
        if rival:
            return unsure, rival
        if not winner.wins:
            others = ", ".join(f"{100.0 * c.weight:.0f} % at {c.pose[0]:.1f}, {c.pose[1]:.1f}" for c in clusters[:3])
            return unsure, f"{len(clusters)} places are possible: {others}"
        slack = SPREAD_SLACK if was_sure else 1.0
        spread = winner.spread
        heading_spread = float(np.degrees(np.sqrt(winner.covariance[2, 2])))
        if spread > slack * s.settled_spread:
            return unsure, f"the particles are spread over {spread:.2f} m"
        if heading_spread > slack * s.settled_spread_deg:
            return unsure, f"the particles' headings are spread over {heading_spread:.1f} degrees"
        if np.isnan(agreement):
            return (self.state, self.reason) if blind_for > 0.0 else (unsure, "the map knows nothing where beams end")
        # To be doubted takes less agreement than to be believed again.
        if agreement < (s.doubt_agreement if self.state == "tracking" else s.settled_agreement):
            return unsure, f"{100.0 * agreement:.0f} % of the beams agree with the map{details}"
        if fallen:
            return unsure, f"scans fit clearly less well than before, {100.0 * agreement:.0f} % of the beams{details}"
        return "tracking", f"drawn together, and {100.0 * agreement:.0f} % of the beams agree with the map"
