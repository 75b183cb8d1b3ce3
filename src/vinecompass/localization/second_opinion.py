"""A second opinion on a pose that somebody gave: does the scan fit better anywhere else?"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import compose, wrap_angle
from vinecompass.localization.place_search import Place, PlaceSearch, distinct

__all__ = ["SecondOpinion", "second_opinion"]

FloatArray = NDArray[np.float64]
NEARBY = 3.0
"""Metres about the pose given within which a better one is called nearby."""


@dataclass(frozen=True)
class SecondOpinion:
    """How a scan fits at the pose given, and elsewhere.

    Parameters
    ----------
    given : Place
        The best within what a rough pose may be off.
    turned : Place
        The best within as much of the same place with the robot turned by 180 degrees.
    nearby : Place
        The best within 3 m at any heading.
    anywhere : list of Place
        All on the whole map that fit nearly as well as the best.
    warning : str
        What fits clearly better than the pose given; empty if nothing does.
    """

    given: Place
    turned: Place
    nearby: Place
    anywhere: list[Place]
    warning: str

    @property
    def better(self) -> list[Place]:
        """The places that fit clearly better than the one given, the best first; none without a warning."""
        if not self.warning:
            return []
        places = sorted([self.turned, self.nearby, *self.anywhere], key=lambda place: -place.fit)
        return distinct([place for place in places if place.fit > self.given.fit])


def second_opinion(
    search: PlaceSearch,
    pose: FloatArray,
    origins: FloatArray,
    ends: FloatArray,
    *,
    reach: float,
    turn: float,
    clearly_better: float,
) -> SecondOpinion:
    """Compare a pose given with the same place turned round, with nearby poses, and with the whole map.

    Parameters
    ----------
    search : PlaceSearch
    pose : array, (3,)
        As given, in the site frame.
    origins, ends : array, (N, 2)
        Of a scan's beams, in the body frame, m.
    reach, turn : float
        What the pose may be off without being called wrong, m and radians.
    clearly_better : float
        How many times as well another must fit to be warned of.
    """
    given = search.near(pose, origins, ends, reach=reach, turn=turn)
    turned = search.near(compose(pose, [0.0, 0.0, np.pi]), origins, ends, reach=reach, turn=turn)
    nearby = search.near(pose, origins, ends, reach=NEARBY, turn=np.pi)
    anywhere = search.anywhere(origins, ends)
    best = max([turned, nearby, *anywhere], key=lambda place: place.fit)
    warning = ""
    if best.fit > clearly_better * given.fit and not best.is_near(pose, reach, turn):
        times = f"the scan fits {best.times_better(given):.1f} times better"
        off = float(np.hypot(*(best.pose - pose)[:2]))
        turned_by = abs(float(np.degrees(wrap_angle(best.pose[2] - pose[2]))))
        if best.is_near(turned.pose, 0.5, np.radians(20.0)):
            warning = f"{times} with the robot turned by 180 degrees, at {best}"
        elif off <= NEARBY:
            warning = f"{times} {off:.1f} m from there and turned by {turned_by:.0f} degrees, at {best}"
        else:
            warning = f"{times} elsewhere, at {best}: {off:.0f} m from there"
    return SecondOpinion(given, turned, nearby, anywhere, warning)
