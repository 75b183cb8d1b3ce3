"""What a rehearsed mission is judged by."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np
import shapely
from numpy.typing import NDArray

from vinecompass.geometry import transform_points
from vinecompass.navigation import State
from vinecompass.rehearsal import Rehearsal
from vinecompass.runs import Track, compare_tracks
from vinecompass.simulation import Site
from vinecompass.tuning.score import Score

__all__ = ["MissionScore", "score"]

FloatArray = NDArray[np.float64]
NOT_ARRIVED = 10.0
"""Times the bound that a mission that does not arrive counts for."""
CONTACT = 10.0
"""Times the bound that a contact costs besides."""
TURNS = 0.15
"""rad/s from which the body turns one way or the other: less is steering."""
STANDS, STANDS_FOR = 0.02, 0.3
"""m/s and rad/s below which it stands, and seconds from which that is a stop."""
LOOKED_AT = 0.1
"""Seconds between two poses at which the room beside the body is measured."""
AT_STOP = 0.25
"""Metres from a stop within which it is passed."""
OUTLINE_STEP = 0.05
"""Metres between two points of the outline that are measured from."""


@dataclass(frozen=True, kw_only=True)
class MissionScore(Score):
    """What came of a mission.

    Parameters
    ----------
    arrived : bool
        By its own word, at every stop.
    reason : str
        Why not.
    time, over_bound : float
        Seconds, and times the bound: the shortest way at top speed.
    way : float
        Metres, by the truth.
    clearance : float
        Between the body and anything built, by the truth, m.
    contacts, interventions, recoveries, replans : int
        Cycles in contact, times that safety braked, times that it could not go on, plans beyond the first for each
        stop.
    turns_about, stops : int
        Times that it turned one way and then the other, and that it stood on the way to a stop.
    estimate_error : float
        RMSE of where it believed to be, m.
    passed : str
        The names of the site's zones, floors and stops that its middle came through, by the truth, as a JSON list.
    computing : float
        Of a cycle of the navigator on average, ms.
    cost : float
        The time over the bound, with a fixed charge for not arriving and for each contact.
    """

    MEASURES: ClassVar[dict[str, str]] = {
        "cost": "cost, of the bound",
        "arrived": "share that arrives",
        "time": "time, s",
        "clearance": "least clearance, m",
        "contacts": "cycles in contact",
        "interventions": "interventions",
        "turns_about": "turns about",
        "stops": "stops without need",
        "estimate_error": "localization error, m",
        "computing": "computing a cycle, ms",
    }
    CLOCKED: ClassVar[tuple[str, ...]] = ("computing",)

    arrived: bool
    reason: str
    time: float
    over_bound: float
    way: float
    clearance: float
    contacts: int
    interventions: int
    recoveries: int
    replans: int
    turns_about: int
    stops: int
    estimate_error: float
    passed: str
    computing: float = field(compare=False)


def score(mission: Rehearsal, site: Site, bound: float) -> MissionScore:
    """Judge a mission whose shortest way takes `bound` seconds at top speed."""
    truth = mission.run.truth
    assert truth is not None
    time = float(truth.t[-1] - truth.t[0])
    states = [entry.state for entry in mission.log.states]
    reached = sum(arrival.reached for arrival in mission.arrivals)
    over_bound = time / bound
    return MissionScore(
        arrived=mission.arrived,
        reason=mission.reason,
        time=time,
        over_bound=over_bound,
        way=float(truth.length),
        clearance=_least_clearance(mission, site),
        contacts=mission.contacts,
        interventions=len(mission.log.interventions),
        recoveries=sum(
            now == State.RECOVERING and before != now for before, now in zip([None, *states], states, strict=False)
        ),
        replans=max(len(mission.plans) - max(len(mission.arrivals), 1), 0),
        turns_about=_turns_about(mission.velocities[:, 2]),
        stops=max(_stops(mission.velocities, truth.t) - max(reached - 1, 0), 0),
        estimate_error=compare_tracks(mission.track, truth).position_rmse,
        passed=json.dumps(_passed(truth, site)),
        computing=1000.0 * float(np.mean(mission.computing)),
        cost=(over_bound if mission.arrived else NOT_ARRIVED) + CONTACT * mission.contacts,
    )


def _least_clearance(mission: Rehearsal, site: Site) -> float:
    """Return the least distance from the body's outline to anything built, by the truth, m."""
    truth = mission.run.truth
    assert truth is not None
    ring = shapely.segmentize(shapely.LinearRing(mission.run.robot.body.polygon), OUTLINE_STEP)
    outline = shapely.get_coordinates(ring)
    stamps = np.arange(truth.t[0], truth.t[-1], LOOKED_AT)
    points = np.concatenate([transform_points(pose, outline) for pose in truth.at(stamps)])
    return float(site.distances_to_surface(points).min())


def _passed(truth: Track, site: Site) -> list[str]:
    """Return the names of the zones, floors and stops of a site that a track comes through, in their order."""
    way = shapely.LineString(truth.poses[:, :2])
    areas = [(zone.name, zone.area) for zone in site.zones]
    areas += [(floor.name, shapely.Polygon(floor.polygon)) for floor in site.floors]
    areas += [(stop.name, shapely.Point(stop.site_pose[:2]).buffer(AT_STOP)) for stop in site.stops]
    return list(dict.fromkeys(name for name, area in areas if name and shapely.intersects(way, area)))


def _turns_about(turn_rates: FloatArray) -> int:
    """Return how often it turned one way after it had turned the other."""
    sides = np.sign(turn_rates[np.abs(turn_rates) > TURNS])
    return int(np.count_nonzero(np.diff(sides)))


def _stops(velocities: FloatArray, t: FloatArray) -> int:
    """Return how often it stood for a while between its first and its last motion."""
    moves = np.abs(velocities).max(axis=1) > STANDS
    on_the_way = np.flatnonzero(moves)
    if len(on_the_way) == 0:
        return 0
    step = float(np.median(np.diff(t)))
    pauses = np.diff(on_the_way) * step
    return int(np.count_nonzero(pauses > STANDS_FOR))
