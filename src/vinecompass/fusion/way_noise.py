"""How far the ways scatter that wheels or an odometry tell, learned reading by reading."""

from __future__ import annotations

from collections import deque
from statistics import median

__all__ = ["WayNoise"]

READINGS, FEWEST = 25, 9
"""Readings on the move over which the scatter is taken, and the fewest that tell it."""
TELLING = 20.0
"""Times its rounding that a way must be long to tell how else it scatters."""
SECOND_DIFFERENCE, ROUNDED = 6.0, 10.0
"""Variance of the second difference of ways by that of one: of ways that scatter by themselves; and of ways between
angles that are rounded, where what one has too much its neighbour has too little."""
CLEARLY = 4.5
"""Times what rounding explains from which something else is there: at a speed at which ticks come by turns one more and
one fewer, rounding alone comes to 3.5."""
OF_MEDIAN, OF_MEDIAN_OF_TWO = 1.4826**2, 1.4427
"""Mean square of normal errors by the median of their squares, and by that of the sum of two."""
KEPT = 0.995
"""Share of the scatter that lasts from one reading to the next, should the ways run smoothly from then on: what shows
while the robot turns shows again at the next turn."""


class WayNoise:
    """The scatter of ways from reading to reading, as a share of how far the rims rolled.

    Stamps that are taken when a message comes in, a few milliseconds early or late, make a way seem too long or too
    short for its time, and encoders have faults of their own; a robot's file knows of neither. A body's velocity
    hardly bends from one reading to the next: by how much the ways do, by the median of a few, is their scatter.

    Parameters
    ----------
    rounding, turn_rounding : float
        Standard deviations that a way, m, and a turn, rad, have in any case.

    Examples
    --------
    >>> noise = WayNoise(1e-4, 1e-4)
    >>> for way in 3 * (0.010, 0.012, 0.009, 0.011):
    ...     spread, turn_spread = noise.take([way, 0.0, 0.0], duration=0.02, rolled=way)
    >>> round(spread, 4), turn_spread
    (0.003, 0.0001)
    """

    def __init__(self, rounding: float, turn_rounding: float) -> None:
        self._rounding = rounding, turn_rounding
        self._before: list[tuple[float, ...]] = []
        self._bends: deque[tuple[float, float, float]] = deque(maxlen=READINGS)
        """Squares of second differences: by what rounding explains; of the way and of the turn, by what was rolled."""
        self._shares = [0.0, 0.0]

    def take(self, way: list[float], duration: float, rolled: float) -> tuple[float, float]:
        """Take a way (ahead, left, turned) over `duration` seconds, in which the rims rolled so far, m.

        Returns
        -------
        spread, turn_spread : float
            The standard deviations of the way, m, and of the turn, rad.
        """
        velocity = tuple(part / duration for part in way)
        before, self._before = self._before, [*self._before[-1:], velocity]
        if len(before) == 2 and rolled > TELLING * self._rounding[0]:
            ahead, left, turned = (
                duration * (now - 2.0 * last + earlier)
                for now, last, earlier in zip(velocity, before[1], before[0], strict=True)
            )
            self._learn(ahead**2 + left**2, turned**2, rolled)
        spread, turn_spread = (
            (rounding**2 + share * rolled**2) ** 0.5
            for rounding, share in zip(self._rounding, self._shares, strict=True)
        )
        return spread, turn_spread

    def _learn(self, bend: float, turn_bend: float, rolled: float) -> None:
        """Take the squares of second differences of way and turn."""
        explained = bend / self._rounding[0] ** 2 + turn_bend / self._rounding[1] ** 2
        self._bends.append((0.5 * explained / ROUNDED, bend / rolled**2, turn_bend / rolled**2))
        if len(self._bends) < FEWEST:
            return
        self._shares = [KEPT * share for share in self._shares]
        times, *bends = zip(*self._bends, strict=True)
        if OF_MEDIAN_OF_TWO * median(times) > CLEARLY:
            told = (OF_MEDIAN * median(squares) / SECOND_DIFFERENCE for squares in bends)
            self._shares = [max(each) for each in zip(told, self._shares, strict=True)]
