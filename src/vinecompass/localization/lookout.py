"""The lookout: when the map is searched for a better place, and when such a place is believed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import compose, relative
from vinecompass.localization.place_search import Place, PlaceSearch

__all__ = ["SURELY_BETTER", "Lookout", "MapSearch"]

FloatArray = NDArray[np.float64]
AGAIN, AGAIN_AFTER = 1.0, 2.0
"""Metres and seconds between two searches of the map, which take longer than a scan."""
CHECKS = (3.0, 8.0)
"""Metres after a place was found on the map, at which the map is searched once more: an aisle may look like another."""
SURELY_BETTER = 3.0
"""How many times better another place must fit to be believed at once. A place that fits only clearly better must do so
again a metre on: where furniture was moved, some other place may look more like the map for a while."""
NOWHERE = 0.2
"""Share of agreeing beams below which the robot is lost if the scan fits nowhere else either: behind panes of glass,
which beams pass, it can be little more."""


@dataclass(frozen=True)
class Rival:
    """A place that fitted better, though not surely: where, the odometry's pose then, and how it was told."""

    pose: FloatArray
    odometry: FloatArray
    reason: str


@dataclass(frozen=True)
class MapSearch:
    """What a search of the map came to.

    Parameters
    ----------
    believed : list of Place
        Places to be believed in, the best first; none if the robot is where it was thought to be.
    nowhere : bool
        Whether the scan fits nowhere, not even there.
    reason : str
        How the better place is told; empty if there is none.
    """

    believed: list[Place]
    nowhere: bool
    reason: str


class Lookout:
    """Looks for places that fit better than where the robot is believed to be.

    Parameters
    ----------
    search : PlaceSearch
    clearly_better : float
        How many times as well another place must fit to count.
    """

    def __init__(self, search: PlaceSearch, *, clearly_better: float) -> None:
        self._search = search
        self._clearly_better = clearly_better
        self._way = 0.0
        self._looked_at = -np.inf
        self._checks_in: list[float] = []
        self._rival: Rival | None = None

    @property
    def suspicion(self) -> str:
        """What place fitted better and is yet to be looked at again; empty if none."""
        return "" if self._rival is None else self._rival.reason

    def drove(self, way: float) -> None:
        """Take in that the robot drove so many metres."""
        self._way += way
        self._checks_in = [left - way for left in self._checks_in]

    def suspect(self, place: Place, odometry: FloatArray, reason: str) -> None:
        """Take in that a place fits better, to be looked at again a metre on."""
        self._rival = Rival(place.pose, odometry, reason)

    def found(self) -> None:
        """Take in that the robot was found on the map: that will be checked."""
        self._checks_in = list(CHECKS)

    def due(self, t: float) -> bool:
        """Tell whether the map may be searched again, and take in that it is."""
        due = self._way >= AGAIN or t - self._looked_at >= AGAIN_AFTER
        if due:
            self._way = 0.0
            self._looked_at = t
        return due

    def look(
        self, t: float, pose: FloatArray, odometry: FloatArray, origins: FloatArray, ends: FloatArray, *, in_doubt: bool
    ) -> MapSearch | None:
        """Search the map if the pose is in doubt, suspected or to be checked, and it is due; None if not."""
        to_check = bool(self._checks_in) and self._checks_in[0] <= 0.0
        if not (in_doubt or to_check or self._rival is not None) or not self.due(t):
            return None
        self._checks_in = self._checks_in[to_check:]
        here = self._search.near(pose, origins, ends, reach=0.3, turn=np.radians(6.0))
        places = self._search.anywhere(origins, ends)
        better = [place for place in places if place.fit > self._clearly_better * here.fit and not place.is_like(here)]
        rival = self._rival
        self._rival = None
        if not better:
            return MapSearch([], not places and not here.agreement >= NOWHERE, "")
        times = better[0].times_better(here)
        reason = f"the scan fits {times:.1f} times better at {better[0]}"
        if times > SURELY_BETTER or (rival is not None and _confirms(rival, odometry, better)):
            self.found()
            return MapSearch(better, False, reason)
        if rival is not None and _way_since(rival, odometry) < 0.5 * AGAIN:
            self._rival = rival
        else:
            self.suspect(better[0], odometry, f"{reason}; a look after {AGAIN:.0f} m will tell")
        return MapSearch([], False, self.suspicion)


def _way_since(rival: Rival, odometry: FloatArray) -> float:
    step = relative(odometry, rival.odometry)
    return float(np.hypot(step[0], step[1]))


def _confirms(rival: Rival, odometry: FloatArray, better: list[Place]) -> bool:
    """Tell whether, half a metre on or more, a place fits better where the robot would be had the rival been right."""
    now = compose(rival.pose, relative(odometry, rival.odometry))
    return _way_since(rival, odometry) >= 0.5 * AGAIN and any(
        place.is_near(now, 1.0, np.radians(20.0)) for place in better
    )
