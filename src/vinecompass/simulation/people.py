"""People on foot: they walk to and fro along a route, wait for the robot, and turn back or step aside if it stays."""

from __future__ import annotations

import numpy as np
import shapely
import shapely.ops
from numpy.typing import NDArray

from vinecompass.contact import Walking
from vinecompass.geometry import distance_along
from vinecompass.simulation.site import Person

__all__ = ["Walker"]

LOOKED_AT = 0.1
"""Metres from one place on the route to the next at which a person may begin."""
PATIENCE = 3.0
"""Seconds of waiting after which a person turns back, or steps aside where that is no way out either."""


class Walker:
    """One person's walk.

    Attributes
    ----------
    position, velocity : array, (2,)
        In the site frame, m and m/s.
    radius : float
        Metres.
    """

    def __init__(self, person: Person, surfaces: shapely.MultiLineString, rng: np.random.Generator) -> None:
        self._surfaces = surfaces
        self.radius = person.radius
        self._attention = person.attention
        self._points = np.array(person.route)
        self._along = distance_along(self._points)
        self._speed = person.speed * rng.uniform(0.9, 1.1)
        self._travelled = rng.uniform(0.0, self._along[-1])
        self._direction = 1.0 if rng.random() < 0.5 else -1.0
        if person.begin is not None:
            self._travelled = person.begin * self._along[-1]
            self._direction = 1.0
        self._waited = 0.0
        self.position = self._at(self._travelled)
        self.velocity = np.zeros(2)
        self._name = person.name

    def begin_clear_of(self, robot: shapely.Polygon) -> None:
        """Begin farther along the route if a robot's body, m in the site frame, is where this one would begin."""
        if robot.distance(shapely.Point(self.position)) > self.radius:
            return
        for travelled in np.arange(self._travelled, self._travelled + self._along[-1], LOOKED_AT):
            place = self._at(travelled % self._along[-1])
            if robot.distance(shapely.Point(place)) > self.radius + self._attention:
                self._travelled, self.position = float(travelled % self._along[-1]), place
                return

    @property
    def seen(self) -> Walking:
        """The person as others see it."""
        (x, y), (velocity_x, velocity_y) = self.position.tolist(), self.velocity.tolist()
        return Walking(x, y, velocity_x, velocity_y, self.radius, self._name)

    def walk(self, duration: float, robot: shapely.Polygon) -> None:
        """Walk for `duration` seconds past a robot whose body covers `robot`, m in the site frame."""
        before = self.position
        self._walk(duration, robot)
        self.velocity = (self.position - before) / duration

    def _walk(self, duration: float, robot: shapely.Polygon) -> None:
        reach = self._speed * duration
        travelled = self._travelled + self._direction * reach
        if not 0.0 <= travelled <= self._along[-1]:
            self._direction = -self._direction
            travelled = float(np.clip(self._travelled + self._direction * reach, 0.0, self._along[-1]))
        to_route = self._at(self._travelled) - self.position
        if (off_route := float(np.hypot(*to_route))) > 0.0:
            travelled = self._travelled
            step = self.position + to_route * min(reach / off_route, 1.0)
        else:
            step = self._at(travelled)
        if not self._is_in_the_way(robot, step):
            self._waited = 0.0
            self._travelled = travelled
            self.position = step
            return
        self._waited += duration
        if self._waited > PATIENCE:
            back = self._at(self._travelled - self._direction * reach)
            # Near the end of the route there is no way back either.
            no_way_back = np.hypot(*(back - self.position)) < 0.9 * reach
            if off_route or no_way_back or self._is_in_the_way(robot, back):
                self._step_aside(robot, reach)
            else:
                self._waited = 0.0
                self._direction = -self._direction

    def _step_aside(self, robot: shapely.Polygon, reach: float) -> None:
        nearest, _ = shapely.ops.nearest_points(robot, shapely.Point(self.position))
        away = self.position - np.array(nearest.coords[0])
        aside = self.position + away * reach / max(float(np.hypot(*away)), 1e-9)
        if self._surfaces.distance(shapely.Point(aside)) > self.radius:
            self.position = aside

    def _is_in_the_way(self, robot: shapely.Polygon, step: NDArray[np.float64]) -> bool:
        gaps = np.asarray(shapely.distance(robot, shapely.points([self.position, step]))) - self.radius
        gap, next_gap = gaps.tolist()
        return bool(next_gap < self._attention and next_gap < gap)

    def _at(self, travelled: float) -> NDArray[np.float64]:
        return np.array([np.interp(travelled, self._along, column) for column in self._points.T])
