"""The stops that are left of a round, and how often each was tried."""

from __future__ import annotations

from vinecompass.navigation.mission.round import StopGoal

__all__ = ["StopQueue"]


class StopQueue:
    """Stops in the order in which they are to be reached.

    Parameters
    ----------
    goals : list of StopGoal
    """

    def __init__(self, goals: list[StopGoal]) -> None:
        self._goals = list(goals)
        self._tries: dict[int, int] = {}
        self._put_off: set[int] = set()

    @property
    def next(self) -> StopGoal | None:
        """The one on the way to, or None when there is none left."""
        return self._goals[0] if self._goals else None

    @property
    def left(self) -> list[StopGoal]:
        """All that are left, in their order."""
        return list(self._goals)

    def need(self) -> StopGoal:
        """Return the one on the way to: only asked for while there is one."""
        return self._goals[0]

    def close(self) -> StopGoal:
        """Take the one on the way to out, and return it."""
        return self._goals.pop(0)

    def close_all(self) -> list[StopGoal]:
        """Take all that are left out, and return them."""
        left, self._goals = self._goals, []
        return left

    def add(self, goals: list[StopGoal]) -> None:
        """Put stops behind those that are left."""
        self._goals += goals

    def may_try_again(self) -> bool:
        """Count a failure of the one on the way to, and tell whether its rules want it tried again."""
        goal = self._goals[0]
        tries = self._tries[id(goal)] = self._tries.get(id(goal), 0) + 1
        return goal.rules.on_failure == "retry" and tries <= goal.rules.retries

    def put_off(self) -> bool:
        """Put the one on the way to behind the next one, once; tell whether it was."""
        number = id(self._goals[0])
        if len(self._goals) < 2 or number in self._put_off:
            return False
        self._put_off.add(number)
        self._goals[0], self._goals[1] = self._goals[1], self._goals[0]
        return True
