"""Robots of the second world, drawn at random; what is filed of them may be wrong."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely

from benchmarks.other_world.base import TRACK_WIDTH
from vinecompass.robot import Robot

__all__ = ["BODIES", "OtherRobot", "draw_robot"]

BODIES = {
    "cart": [[0.45, -0.3], [0.45, 0.3], [-0.4, 0.3], [-0.4, -0.3]],
    "long": [[0.8, -0.28], [0.8, 0.28], [-0.5, 0.28], [-0.5, -0.28]],
    "round": [[0.32 * np.cos(a), 0.32 * np.sin(a)] for a in np.linspace(0.0, 2.0 * np.pi, 20, endpoint=False)],
    "fast": [[0.3, -0.25], [0.35, 0.0], [0.3, 0.25], [-0.3, 0.25], [-0.3, -0.25]],
    "slow": [[0.5, -0.35], [0.5, 0.35], [-0.5, 0.35], [-0.5, -0.35]],
    "car": [[0.95, -0.3], [0.95, 0.3], [-0.2, 0.3], [-0.2, -0.3]],
    "omni": [[0.4, -0.3], [0.4, 0.3], [-0.4, 0.3], [-0.4, -0.3]],
}
"""Outlines, m."""
TOP_SPEEDS = {"cart": 0.9, "long": 0.8, "round": 0.7, "fast": 1.6, "slow": 0.35, "car": 0.9, "omni": 0.8}
"""m/s."""
TURNING_RADIUS = 0.9
"""Of the car, m."""


@dataclass(frozen=True)
class OtherRobot:
    """A robot as it is filed, and what of it is so in truth.

    Parameters
    ----------
    filed : Robot
    body : shapely.Polygon
    delay, lag : float
        Of the base, s.
    loop_rate : float
        Hz.
    """

    filed: Robot
    body: shapely.Polygon
    delay: float
    lag: float
    loop_rate: float

    @property
    def radius(self) -> float:
        """The least that it can turn on, m."""
        return TURNING_RADIUS if self.filed.drive.kind == "car" else 0.0


def draw_robot(kind: str, rng: np.random.Generator, *, tells_delay: bool) -> OtherRobot:
    """Draw a robot of a kind of body; `tells_delay` is whether its file says how its base lags."""
    top = TOP_SPEEDS[kind]
    delay, lag = rng.uniform(0.0, 0.3), rng.uniform(0.02, 0.12)
    drive: dict[str, Any] = {
        "kind": "car" if kind == "car" else "omni" if kind == "omni" else "differential",
        "wheel_radius": 0.1,
        "top_speed": top,
        "reverse_speed": 0.5 * top,
        "top_turn_rate": 1.2,
        "acceleration": rng.uniform(0.5, 1.2),
        "braking": rng.uniform(0.8, 1.5),
        "turn_acceleration": rng.uniform(1.5, 3.0),
    }
    if kind == "omni":
        drive["wheel"] = [
            {"name": f"w{i}", "position": (x, y), "direction_deg": 0.0, "roller_deg": r}
            for i, (x, y, r) in enumerate(
                ((0.3, 0.25, -45.0), (0.3, -0.25, 45.0), (-0.3, 0.25, 45.0), (-0.3, -0.25, -45.0))
            )
        ]
    else:
        drive["track_width"] = TRACK_WIDTH
    if kind == "car":
        drive |= {"wheelbase": 0.75, "turning_radius": TURNING_RADIUS}
    if tells_delay:
        drive |= {"delay": round(delay, 2), "lag": round(lag, 2)}
    half = rng.choice([120.0, 135.0, 180.0])
    lidar = {
        "name": "scanner",
        "mount": (0.0, 0.0, 0.0) if half == 180.0 else (0.25, 0.0, 0.0),
        "first_beam_deg": -half + 1.0,
        "last_beam_deg": half,
        "beams": int(rng.choice([361, 541])),
        "nearest": 0.05,
        "farthest": float(rng.choice([10.0, 20.0])),
        "rate": float(np.round(rng.uniform(5.0, 15.0), 1)),
    }
    filed = Robot.model_validate({"name": kind, "body": {"outline": BODIES[kind]}, "drive": drive, "lidar": [lidar]})
    return OtherRobot(filed, shapely.Polygon(BODIES[kind]), delay, lag, float(rng.choice([10.0, 20.0, 30.0, 50.0])))
