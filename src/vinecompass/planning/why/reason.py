"""The reason why there is no plan, and how several of them are told together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

__all__ = ["OPENED", "WhyNot", "together"]

FloatArray = NDArray[np.float64]
OPENED = "there is a way (planned again to see)"


@dataclass(frozen=True)
class WhyNot:
    """What closes the way.

    Parameters
    ----------
    cause : str
        "occupied", "unknown", "zone", "one-way zone", "layer", "obstacle", "clearance" or "heading" for a closed end;
        besides "narrow", "body", "turning radius", "reverse", "tolerance", "walls", "several", "goal" and "planner" for
        a way.
    text : str
        What is wrong, and where.
    remedy : str
        What would open it; found by planning again with it changed. Empty if nothing was found.
    place : (x, y) or None
        Where, in the site frame, m.
    width, needed : float or None
        How wide a narrow place is, and how wide it would have to be, m.
    nearest : array, (3,), or None
        The pose nearest to a closed start at which the body fits; of a goal, the nearest tried to which there is a way.
    what : str
        What the thing on the floor is called that closes it; empty if it is none.
    parts : tuple of WhyNot
        The fewest things that close the way only together, each by itself; empty if it is one alone.
    """

    cause: str
    text: str
    remedy: str = ""
    place: tuple[float, float] | None = None
    width: float | None = None
    needed: float | None = None
    nearest: FloatArray | None = None
    what: str = ""
    parts: tuple[WhyNot, ...] = ()

    def __str__(self) -> str:
        return self.text + (f"; {self.remedy}" if self.remedy else "")


def together(parts: Sequence[WhyNot]) -> WhyNot:
    """Return the reason that is made of several, each of which closes the way as long as it is there.

    Each remedy is what is to be done, as "without it"; all of them done there is a way.
    """
    if len(parts) == 1:
        return replace(parts[0], remedy=f"{parts[0].remedy} {OPENED}")
    things = [part.what for part in parts if part.what]
    texts = [part.text for part in parts if not part.what]
    remedies = list(dict.fromkeys(part.remedy for part in parts if not part.what))
    if things:
        texts.insert(0, f"{' and '.join(things)} lie across every way from start to goal, one after the other")
        remedies.insert(0, "without them")
    if len(things) == 1:
        texts[0], remedies[0] = next((part.text, part.remedy) for part in parts if part.what)
    causes = {part.cause for part in parts}
    narrow = next((part for part in parts if part.width is not None), parts[0])
    return WhyNot(
        parts[0].cause if len(causes) == 1 else "several",
        ", and ".join(texts),
        f"{' and '.join(remedies)} {OPENED}",
        parts[0].place,
        narrow.width,
        narrow.needed,
        parts=tuple(parts),
    )
