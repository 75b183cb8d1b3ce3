"""Whether a place that was found on the map is the only one that explains what was seen on the last metres."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.grids import MapRays
from vinecompass.localization.clusters import Cluster
from vinecompass.localization.place_search import PlaceSearch
from vinecompass.localization.recent_scans import RecentScans

__all__ = ["PlaceProof"]

FloatArray = NDArray[np.float64]
STEP, AS_WELL, REFUTED, ENDS = 1.0, 0.95, -30.0, 240
"""Metres from one look to the next; share of the fit of the place believed in from which another one explains what was
seen as well, unless the beams that tell the two apart make it so much less likely (a logarithm; the beams of a scan err
together); and beams that are compared."""
NEAR_IT, TURNED = 1.0, 0.35
"""Metres and radians within which particles are at a place."""


class PlaceProof:
    """Compares a place that is believed in with all others on the map, by what was seen on the last metres.

    Parameters
    ----------
    search : PlaceSearch
    rays : MapRays
        Of the same map.
    needed : bool
        Whether the place has yet to be proven, as after a search of the map.

    Attributes
    ----------
    needed : bool
    others : str
        What other places explain the last metres as well; empty if none does, or nothing was compared yet.
    """

    def __init__(self, search: PlaceSearch, rays: MapRays, *, needed: bool) -> None:
        self._search = search
        self._rays = rays
        self._recent = RecentScans()
        self._due_in = 0.0
        self.needed = needed
        self.others = ""

    def begin_anew(self) -> None:
        """Take in that the robot was found elsewhere: what was seen before tells nothing."""
        self.needed = True
        self._recent.forget()

    def see(self, way: float, odometry: FloatArray, origins: FloatArray, ends: FloatArray) -> None:
        """Take in the way since the last scan, m, the odometry's pose, and beams ``(N, 2)`` in the body frame."""
        self._due_in -= way
        self._recent.drove(way)
        if len(ends):
            self._recent.add(odometry, origins, ends)

    def try_on(self, clusters: list[Cluster], odometry: FloatArray, *, ready: bool) -> list[FloatArray]:
        """Compare the heaviest cluster's place with all others, if it is needed, due and `ready`.

        Returns the poses ``(3,)`` that explain all as well and that no particles are left at.
        """
        if not self.needed or self._due_in > 0.0:
            return []
        if not ready:
            self.others = ""
            return []
        self._due_in = STEP
        origins, ends = self._recent.together(odometry)
        here = self._search.near(clusters[0].pose, origins, ends, reach=0.3, turn=np.radians(4.0), most_ends=ENDS)
        others = [
            place
            for place in self._search.anywhere(origins, ends, share=AS_WELL, most_ends=ENDS)
            if not place.is_like(here)
            and place.fit > AS_WELL * here.fit
            and self._recent.evidence(self._rays, odometry, here.pose, place.pose) > REFUTED
        ]
        if not others:
            self.needed, self.others = False, ""
            return []
        explain = "other places explain" if len(others) > 1 else "other place explains"
        self.others = f"{len(others)} {explain} the last {self._recent.way:.0f} m as well, as {others[0]}"
        return [one.pose for one in others if not any(one.is_near(c.pose, NEAR_IT, TURNED) for c in clusters)]
