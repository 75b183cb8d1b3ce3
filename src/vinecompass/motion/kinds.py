"""The kinds of drive that are known, each described in a file of its own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.motion.car import car_rolling
from vinecompass.motion.differential import axle_places, differential_rolling
from vinecompass.motion.omni import omni_places, omni_rolling
from vinecompass.robot import Drive

__all__ = ["KINDS", "Kind", "kind_of"]


@dataclass(frozen=True)
class Kind:
    """What sets one kind of drive apart from the others.

    Parameters
    ----------
    rolling : callable
        Takes a `Drive` and returns the speed of each wheel's rim from the body's velocity: ``(wheels, 3)``, by
        (m/s, m/s, rad/s), in m/s. Its least-squares inverse leads back.
    wheel_places : callable
        Takes a `Drive` and returns where its wheels stand on the body ``(wheels, 2)``, m.
    turns_on_the_spot : bool
    goes_sideways : bool
    """

    rolling: Callable[[Drive], NDArray[np.float64]]
    wheel_places: Callable[[Drive], NDArray[np.float64]]
    turns_on_the_spot: bool = True
    goes_sideways: bool = False


KINDS = {
    "differential": Kind(differential_rolling, axle_places),
    "omni": Kind(omni_rolling, omni_places, goes_sideways=True),
    "car": Kind(car_rolling, axle_places, turns_on_the_spot=False),
}
"""Every kind by the name that robot files give it."""


def kind_of(drive: Drive) -> Kind:
    """Return what is particular to a drive's kind."""
    return KINDS[drive.kind]
