"""The planners by their names, and what each finds: a way that the body can drive from end to end."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.planning.lattice.lattice import lattice
from vinecompass.planning.problem import Problem, Way
from vinecompass.planning.search.grid_planners import a_star, any_angle, dijkstra
from vinecompass.planning.trees.roadmap import roadmap
from vinecompass.planning.trees.star_tree import informed_rrt_star, rrt_star
from vinecompass.planning.trees.trees import rrt, rrt_connect
from vinecompass.settings import PlanSettings

__all__ = ["METHODS", "OF_LINES", "Planner", "check_method", "fault_of", "find_way", "name_of", "usual_method"]

FloatArray = NDArray[np.float64]
Planner = Callable[[Problem, PlanSettings, np.random.Generator], Way]
"""A planner of your own is any such callable: a problem, the settings and a source of chance in, a `Way` out."""

OF_LINES: dict[str, Planner] = {"dijkstra": dijkstra, "a-star": a_star, "any-angle": any_angle}
OF_MOTIONS: dict[str, Planner] = {
    "lattice": lattice,
    "rrt": rrt,
    "rrt-connect": rrt_connect,
    "rrt-star": rrt_star,
    "informed-rrt-star": informed_rrt_star,
    "roadmap": roadmap,
}
METHODS: dict[str, Planner] = OF_LINES | OF_MOTIONS
"""Every planner by its name; those of `OF_LINES` are for robots that turn on the spot."""
TRIED_AGAIN = 5
"""Times that a way is looked for at most, where the body cannot drive the one found."""


def usual_method(turns_on_the_spot: bool) -> str:
    """Return what plans where nobody says how: lines if the robot turns on the spot, else arcs."""
    return "a-star" if turns_on_the_spot else "lattice"


def name_of(method: str | Planner) -> str:
    """Return what a method is called: a planner of the user's own by the name of its function or class."""
    if isinstance(method, str):
        return method
    return str(getattr(method, "__name__", type(method).__name__))


def check_method(method: str | Planner, problem: Problem, *, key: str = "method") -> None:
    """Raise `InputError` if there is no such method, or it takes no such motion."""
    if not callable(method) and method not in METHODS:
        expected = f"one of {', '.join(METHODS)}, or a planner of your own"
        raise InputError("is no planner", key=key, value=method, expected=expected)
    if isinstance(method, str) and method in OF_LINES and not problem.turns_on_the_spot:
        raise InputError(
            "makes a path of straight lines, which this motion cannot follow",
            key=key,
            value=method,
            expected=f"one of {', '.join(OF_MOTIONS)}",
        )


def find_way(problem: Problem, method: str | Planner, settings: PlanSettings, seed: int) -> Way:
    """Return the way that a method finds, or another where the body would touch something between two of its poses.

    Those that draw samples draw others, and all look at their moves twice as often. A planner of the user's own is
    asked once; see `fault_of`.
    """
    rng, s = np.random.default_rng(seed), settings
    if not isinstance(method, str):
        return method(problem, s, rng)
    for _ in range(TRIED_AGAIN):
        way = METHODS[method](problem, s, rng)
        if method in OF_LINES or len(way.poses) == 0 or problem.check.touched_along(way.poses) is None:
            return way
        s = s.model_copy(update={"edge_spacing": 0.5 * s.edge_spacing})
    return replace(way, poses=np.zeros((0, 3)))


def fault_of(problem: Problem, way: Way) -> str:
    """Return what is wrong with the way that a planner of the user's own found; empty if the robot can drive it."""
    poses = way.poses if isinstance(way, Way) else None
    if not isinstance(poses, np.ndarray) or poses.ndim != 2 or poses.shape[1] != 3 or not np.all(np.isfinite(poses)):
        return "gave no Way with poses (N, 3) of finite numbers"
    if len(poses) == 0:
        return ""
    grid = problem.costmap.grid
    for which, pose, end in (("begin", poses[0], problem.start_pose), ("end", poses[-1], problem.goal_pose)):
        off = float(np.hypot(*(pose - end)[:2]))
        if off > grid.cell_size:
            return f"gave a way that {which}s {off:.2f} m off"
    touched = problem.check.touched_along(poses)
    if touched is not None:
        x, y = grid.points_of(touched[None])[0]
        return f"gave a way on which the body touches {problem.costmap.closed_floor(touched)} at {x:.2f}, {y:.2f}"
    if np.isinf(problem.check.drive_price(poses)):
        return "gave a way over closed floor, or against a one-way zone"
    return ""
