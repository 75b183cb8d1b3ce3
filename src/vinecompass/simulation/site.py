"""The site file: walls, solids, floors, people, zones, stops and routes."""

from __future__ import annotations

from functools import cached_property
from pathlib import Path

import numpy as np
import shapely
import tomlkit
from numpy.typing import ArrayLike, NDArray
from pydantic import Field, model_validator

from vinecompass.contact import PERSON_RADIUS
from vinecompass.door import checked
from vinecompass.files import (
    Fraction,
    Model,
    NotNegative,
    Number,
    Size,
    Speed,
    atomic_write,
    check_suffix,
    find_named,
    parse_model,
    read_model,
)
from vinecompass.geometry import checked_pose
from vinecompass.grids.zones import Corners, Zones
from vinecompass.settings import NamedPose

__all__ = ["Person", "Site", "Solid", "parse_site", "read_site", "write_site"]

Point = tuple[Number, Number]


class Wall(Model):
    """One ``[[wall]]``: a polyline that stops the lidar and the robot."""

    points: list[Point] = Field(min_length=2, description="[[x, y], ...] of 2 points or more, m")
    lets_by: Fraction = Field(0.0, description="share of beams that pass through, 0 to 1: glass")


class Solid(Corners):
    """One ``[[solid]]``: a polygon that stops the lidar and the robot."""

    name: str = Field("", description="a name")


class Floor(Corners):
    """One ``[[floor]]``: a polygon whose grip differs from the dry floor's 1."""

    name: str = Field("", description="a name")
    grip: Fraction = Field(description="0 (wheels spin) to 1 (dry)")


class Person(Model):
    """One ``[[person]]``, walking to and fro along a route."""

    name: str = Field(description="a name")
    route: list[Point] = Field(min_length=2, description="[[x, y], ...] of 2 points or more, m")
    speed: Speed = Field(description="m/s")
    radius: Size = Field(PERSON_RADIUS, description="m")
    begin: Fraction | None = Field(
        None, description="where on the route it begins, walking on, 0 to 1; anywhere if not given"
    )
    attention: NotNegative = Field(0.8, description="how near to the robot's body it waits for it, m; 0 walks on")


class Route(Model):
    """One ``[[route]]``: a polyline to record a drive along."""

    name: str = Field(description="a name")
    points: list[Point] = Field(min_length=2, description="[[x, y], ...] of 2 points or more, m")


class Site(Model):
    """A place to drive in. `read_site` makes one from a ``site.toml``."""

    name: str = Field(description="a name")
    start: tuple[Number, Number, Number] = Field(description="[x, y, heading_deg], where the robot is parked")
    walls: list[Wall] = Field(default_factory=list, alias="wall", description="[[wall]] tables")
    solids: list[Solid] = Field(default_factory=list, alias="solid", description="[[solid]] tables")
    floors: list[Floor] = Field(default_factory=list, alias="floor", description="[[floor]] tables")
    people: list[Person] = Field(default_factory=list, alias="person", description="[[person]] tables")
    zones: Zones = Field(default_factory=list, alias="zone", description="[[zone]] tables")
    stops: list[NamedPose] = Field(default_factory=list, alias="stop", description="[[stop]] tables")
    routes: list[Route] = Field(default_factory=list, alias="route", description="[[route]] tables")

    def __repr__(self) -> str:
        """Return it in one line."""
        built = f"{len(self.walls)} walls, {len(self.solids)} solids"
        return f"<Site {self.name!r}: {built}, {len(self.people)} people, {len(self.stops)} stops>"

    __str__ = __repr__

    @model_validator(mode="after")
    def _has_something_to_see(self) -> Site:
        if not self.walls and not self.solids:
            raise ValueError("a site needs at least one [[wall]] or [[solid]]")
        return self

    @cached_property
    def segments(self) -> NDArray[np.float64]:
        """Every edge of every wall and solid ``(N, 4)``: x, y of one end and x, y of the other, m."""
        return np.concatenate([_edges(line) for line in self._lines()])

    @cached_property
    def lets_by(self) -> NDArray[np.float64]:
        """Share of beams that pass each of the `segments` ``(N,)``."""
        shares = [wall.lets_by for wall in self.walls] + [0.0] * len(self.solids)
        return np.repeat(shares, [len(line) - 1 for line in self._lines()])

    def _lines(self) -> list[list[Point]]:
        return [wall.points for wall in self.walls] + [[*solid.polygon, solid.polygon[0]] for solid in self.solids]

    @cached_property
    def surfaces(self) -> shapely.MultiLineString:
        """The same edges as one Shapely geometry, to measure distances to."""
        return shapely.MultiLineString(list(self.segments.reshape(-1, 2, 2)))

    @property
    def start_pose(self) -> NDArray[np.float64]:
        """Where the robot is parked ``(3,)``, m and radians."""
        x, y, heading_deg = self.start
        return np.array([x, y, np.radians(heading_deg)])

    def distances_to_surface(self, points: ArrayLike) -> NDArray[np.float64]:
        """Return the distance of each point ``(N, 2)`` to the nearest wall or solid's edge ``(N,)``, m."""
        lines = shapely.get_parts(self.surfaces)
        return np.asarray(
            shapely.STRtree(lines).query_nearest(
                shapely.points(np.asarray(points, dtype=float)), return_distance=True, all_matches=False
            )[1]
        )

    def grip_at(self, x: float, y: float) -> float:
        """Return the grip of the floor at a point, 0 to 1; the lowest where floors overlap."""
        return min((floor.grip for floor, shape in self._floor_shapes if shapely.contains_xy(shape, x, y)), default=1.0)

    @cached_property
    def _floor_shapes(self) -> list[tuple[Floor, shapely.Polygon]]:
        shapes = [(floor, shapely.Polygon(floor.polygon)) for floor in self.floors]
        for _, shape in shapes:
            shapely.prepare(shape)
        return shapes

    def find_stop(self, name: str) -> NamedPose:
        """Return the stop of that name, or raise `InputError` that lists the known ones."""
        return find_named(self.stops, name, kind="stop", where=self.name)

    def pose_of(self, place: ArrayLike | str, key: str) -> NDArray[np.float64]:
        """Return a pose ``(3,)`` that is given as one, m and radians, or by the name of a stop."""
        return self.find_stop(place).site_pose if isinstance(place, str) else checked_pose(place, key)

    def find_route(self, name: str) -> Route:
        """Return the route of that name, or raise `InputError` that lists the known ones."""
        return find_named(self.routes, name, kind="route", where=self.name)


def _edges(line: list[Point]) -> NDArray[np.float64]:
    return np.hstack([np.array(line[:-1]), np.array(line[1:])])


@checked
def read_site(path: str | Path) -> Site:
    """Read a site file; raise `InputError` naming file, key, value and expectation for what is wrong in it."""
    return read_model(path, Site, kind="site")


@checked
def write_site(site: Site, path: str | Path) -> Path:
    """Write a site file; raise `InputError` if its name is no ``.toml``, or something of another kind stands there."""
    values = site.model_dump(by_alias=True, exclude_defaults=True, mode="json")
    header = {"format": "vinecompass site", "version": 1}
    return atomic_write(check_suffix(path, ".toml"), tomlkit.dumps(header | values))


def parse_site(text: str) -> Site:
    """Make a `Site` from the text of a site file, as a simulated run carries it."""
    return parse_model(text, Site, kind="site", file="site.toml")
