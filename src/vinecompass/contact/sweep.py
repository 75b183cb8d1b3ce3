"""A body swept over a motion, against points: how many samples it takes, and what may lie between them."""

from __future__ import annotations

from math import ceil, hypot

import numpy as np
from numpy.typing import NDArray

from vinecompass.contact.kernels import sweeps_over
from vinecompass.contact.shapes import BodyShape

__all__ = ["first_run_into", "runs_into", "samples_of_sweep"]

FloatArray = NDArray[np.float64]


def samples_of_sweep(body: BodyShape, velocity: FloatArray, seconds: float, spacing: float) -> int:
    """Return at how many poses of a motion a body is to be looked at.

    Between two of them no point of the body moves farther than `spacing`: a point at its rim moves by the way, and by
    the turn times its distance from the origin. So what it passes over unseen reaches less than half of that into it.
    """
    ahead, left, turn_rate = velocity.tolist()
    pace = hypot(ahead, left) + abs(turn_rate) * body.outer_radius
    return max(ceil(seconds * pace / spacing), 1)


def runs_into(body: BodyShape, points: FloatArray, velocity: FloatArray, seconds: float, *, spacing: float) -> bool:
    """Tell whether a body, keeping a velocity ``(3,)`` so long, comes over a point ``(N, 2)`` in its own frame.

    Points that it is over where it stands count only if it comes deeper over them: it may leave them, and slide by.
    What lies between two samples is bounded as `samples_of_sweep` says.

    Examples
    --------
    >>> from vinecompass import demo_file, read_robot
    >>> from vinecompass.contact import shape_of
    >>> body = shape_of(read_robot(demo_file("robot.toml")).body)
    >>> runs_into(body, np.array([[1.0, 0.0]]), np.array([0.5, 0.0, 0.0]), 2.0, spacing=0.03)
    True
    """
    return first_run_into(body, points, velocity, seconds, spacing=spacing) >= 0


def first_run_into(body: BodyShape, points: FloatArray, velocity: FloatArray, seconds: float, *, spacing: float) -> int:
    """Return the index of the point that a body runs into first, or -1 if none; see `runs_into`."""
    samples = samples_of_sweep(body, velocity, seconds, spacing)
    return int(sweeps_over(body, points, velocity, seconds, samples))
