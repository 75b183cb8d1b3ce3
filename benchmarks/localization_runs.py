"""Runs to localize: the demo site and a larger one, with people about and a tenth of the furniture moved."""

from __future__ import annotations

import dataclasses

import numpy as np
import shapely
from numpy.typing import NDArray

from benchmarks.mapping_cases import estate_run
from vinecompass import Grid, Run, Site, Track, build_map, demo_file, read_robot, read_site, record_drive
from vinecompass.geometry import compose, relative
from vinecompass.runs import Scans
from vinecompass.runs.comparison import best_shift

FloatArray = NDArray[np.float64]
ROOM_FOR_THE_ROBOT = 0.7
"""Metres about the route that moved furniture leaves free."""
MAP_SEED = 100
ESTATE_WAY = 250.0
"""Metres of the estate's rounds that one run covers: each seed drives another part of them."""


def furniture_moved(site: Site, route: FloatArray, *, share: float, seed: int) -> Site:
    """Return a site in which a share of the solids has been pushed by up to a metre and turned by up to 20 degrees."""
    rng = np.random.default_rng(seed)
    shapes = [shapely.Polygon(solid.polygon) for solid in site.solids]
    way = shapely.LineString(route).buffer(ROOM_FOR_THE_ROBOT)
    walls = shapely.union_all([shapely.LineString(wall.points) for wall in site.walls])
    people = shapely.union_all([shapely.LineString(person.route).buffer(0.3) for person in site.people])
    wanted, moved = round(share * len(shapes)), 0
    for i in rng.permutation(len(shapes)):
        for _ in range(30):
            away, direction = rng.uniform(0.3, 1.0), rng.uniform(-np.pi, np.pi)
            turned = shapely.affinity.rotate(shapes[i], rng.uniform(-20.0, 20.0))
            pushed = shapely.affinity.translate(turned, away * np.cos(direction), away * np.sin(direction))
            others = shapely.union_all([shape for j, shape in enumerate(shapes) if j != i])
            if not any(pushed.intersects(other) for other in (way, walls, people, others)):
                shapes[i], moved = pushed, moved + 1
                break
        if moved == wanted:
            break
    solids = [
        solid.model_copy(update={"polygon": [tuple(point) for point in shape.exterior.coords[:-1]]})
        for solid, shape in zip(site.solids, shapes, strict=True)
    ]
    return site.model_copy(update={"solids": solids})


def demo_run(seed: int) -> Run:
    """A press round through the demo site, a tenth of its furniture moved."""
    site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
    route = np.array(site.find_route("press round").points)
    return record_drive(furniture_moved(site, route, share=0.1, seed=seed), robot, route, seed=seed)


def estate_part_run(seed: int) -> Run:
    """A part of the estate's rounds, begun at another of their corners for each seed."""
    site, robot = read_site(demo_file("estate.toml")), read_robot(demo_file("robot.toml"))
    robot = robot.model_copy(update={"lidars": [robot.scanner.model_copy(update={"beams": 360})]})
    corners = np.array(site.find_route("rounds").points)
    corners = np.roll(corners[:-1], -7 * seed, axis=0)
    way = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(corners, axis=0).T))])
    route = corners[: int(np.searchsorted(way, ESTATE_WAY)) + 1]
    ahead = route[1] - route[0]
    start = (*route[0].tolist(), float(np.degrees(np.arctan2(ahead[1], ahead[0]))))
    site = furniture_moved(site, route, share=0.1, seed=seed).model_copy(update={"start": start})
    return record_drive(site, robot, route[1:], seed=seed)


def carried_away(run: Run, odometry: Track, begin: float, end: float) -> tuple[Run, Track]:
    """Return a run and its odometry without what happened between two times: as if the robot had been carried.

    What came later is stamped as if it had followed at once, and the odometry goes on from where it was.
    """
    scans, truth = run.need_scans(), run.truth
    assert truth is not None
    before, after = odometry.at([begin, end])

    def kept(t: FloatArray) -> tuple[NDArray[np.bool_], FloatArray]:
        keep = (t <= begin) | (t > end)
        return keep, np.where(t > end, t - (end - begin), t)[keep]

    keep, t = kept(odometry.t)
    later = odometry.t > end
    poses = np.where(later[:, None], compose(before, relative(odometry.poses, after)), odometry.poses)
    scan_keep, scan_t = kept(scans.t)
    truth_keep, truth_t = kept(truth.t)
    cut = dataclasses.replace(
        run,
        scans=Scans(scan_t, scans.ranges[scan_keep]),
        truth=Track(truth_t, truth.poses[truth_keep]),
        wheels=None,
        imu=None,
        commands=None,
        odometry=None,
        position=None,
    )
    return cut, Track(t, poses[keep])


def part_of(run: Run, odometry: Track, begin: float, end: float) -> tuple[Run, Track]:
    """Return the part of a run and of its odometry between two times."""
    scans, truth = run.need_scans(), run.truth
    assert truth is not None
    keep = (scans.t >= begin) & (scans.t <= end)
    rows, odometry_rows = ((t >= begin - 1.0) & (t <= end + 1.0) for t in (truth.t, odometry.t))
    part = dataclasses.replace(
        run,
        scans=Scans(scans.t[keep], scans.ranges[keep]),
        truth=Track(truth.t[rows], truth.poses[rows]),
        wheels=None,
        imu=None,
        commands=None,
        odometry=None,
        position=None,
    )
    return part, Track(odometry.t[odometry_rows], odometry.poses[odometry_rows])


def demo_map() -> Grid:
    """The demo site, mapped from its grand tour."""
    site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
    return build_map(record_drive(site, robot, site.find_route("grand tour").points, seed=MAP_SEED)).grid


def estate_map() -> Grid:
    """The estate, mapped from twenty minutes of rounds and lined up with the building.

    As mapped it lies turned by a few hundredths of a degree about its start, which is 0.05 m at its far end. So it is
    laid where the drive, as a whole, truly went, as one lays a map over the plans of a building.
    """
    run = estate_run(MAP_SEED)
    mapping = build_map(run)
    assert run.truth is not None
    frame = compose(best_shift(mapping.track.poses, run.truth.at(mapping.track.t)), mapping.grid.frame)
    return Grid(mapping.grid.log_odds, mapping.grid.cell_size, (float(frame[0]), float(frame[1])), float(frame[2]))
