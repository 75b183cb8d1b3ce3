"""Where trials are run: in processes of this machine, or on a Dask cluster. What they share is handed over once."""

from __future__ import annotations

import logging
import re
import signal
from collections.abc import Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor, as_completed
from concurrent.futures.process import BrokenProcessPool
from typing import Any, Protocol

from vinecompass.errors import InputError, VineCompassError
from vinecompass.tuning.score import Score
from vinecompass.tuning.trial import Case, Trial

__all__ = ["Cluster", "Processes", "Workers", "WorkersDiedError"]

ANSWERS_WITHIN = 15.0
"""Seconds in which a scheduler must answer."""


class WorkersDiedError(VineCompassError):
    """Workers died with trials that are not finished."""


class Workers(Protocol):
    """What a study asks of those who run its trials."""

    def scores(self, trials: Sequence[Trial]) -> Iterator[tuple[Trial, Score]]:
        """Yield each trial with its score when it is finished; raise `WorkersDiedError` if that cannot be."""

    def end(self) -> None:
        """Let go of what is not finished."""


class Processes:
    """Processes of this machine.

    Parameters
    ----------
    case : Case
    bound : float
    count : int, optional
        One for each core, if not given.
    """

    def __init__(self, case: Case, bound: float, count: int | None = None) -> None:
        self._handed = case, bound
        self._count = count
        self._pool: ProcessPoolExecutor | None = None

    def scores(self, trials: Sequence[Trial]) -> Iterator[tuple[Trial, Score]]:
        """Yield each trial with its score when it is finished."""
        if self._pool is None:
            self._pool = ProcessPoolExecutor(self._count, initializer=_take, initargs=self._handed)
        try:
            # A worker may die while trials are still handed in.
            running = {self._pool.submit(_run, trial): trial for trial in trials}
            for future in as_completed(running):
                yield running[future], future.result()
        except BrokenProcessPool:
            self.end()
            raise WorkersDiedError("the workers die again and again; is there memory enough?") from None

    def end(self) -> None:
        """Let go of what is not finished."""
        if self._pool is not None:
            self._pool.shutdown(wait=False, cancel_futures=True)
            self._pool = None


class Cluster:
    """Workers of a Dask cluster, whose scheduler runs a trial again if a worker dies with it.

    Parameters
    ----------
    case : Case
    bound : float
    address : str
        Of the scheduler, as ``tcp://host:8786``.

    Raises
    ------
    InputError
        `distributed` is not installed, the scheduler does not answer, or its workers have another vinecompass.
    """

    def __init__(self, case: Case, bound: float, address: str) -> None:
        try:
            from distributed import Client
        except ModuleNotFoundError:
            raise InputError("needs Dask", key="cluster", expected='pip install "vinecompass[tune]"') from None
        expected = "the address of a Dask scheduler, as tcp://host:8786"
        if not re.fullmatch(r"(\w+://)?[^\s/:]+:\d+", address):
            raise InputError("is no address", key="cluster", value=address, expected=expected)
        # What it has to say of lost connections it says by what it raises.
        for name in ("distributed", "distributed.client"):
            logging.getLogger(name).setLevel(logging.CRITICAL)
        try:
            self._client = Client(address, timeout=ANSWERS_WITHIN, set_as_default=False)
        except (OSError, ValueError, TypeError, ImportError):
            raise InputError("does not answer", key="cluster", value=address, expected=expected) from None
        _check_workers(self._client, address)
        self._handed = self._client.scatter((case, bound), broadcast=True, hash=False)
        self._running: list[Any] = []

    def scores(self, trials: Sequence[Trial]) -> Iterator[tuple[Trial, Score]]:
        """Yield each trial with its score when it is finished."""
        from distributed import CancelledError, KilledWorker
        from distributed import as_completed as finished

        self._running = [self._client.submit(_run_handed, self._handed, trial, pure=False) for trial in trials]
        by_key = {future.key: trial for future, trial in zip(self._running, trials, strict=True)}
        try:
            for future in finished(self._running, loop=self._client.loop):
                yield by_key[future.key], future.result()
        except (KilledWorker, CancelledError, OSError):
            raise WorkersDiedError("the cluster's workers die again and again, or its scheduler is gone") from None

    def end(self) -> None:
        """Let go of what is not finished."""
        self._client.cancel(self._running)
        self._client.close()


def _check_workers(client: Any, address: str) -> None:
    """Raise `InputError` unless there are workers, and all have the same vinecompass as here."""
    from vinecompass import __version__

    try:
        client.wait_for_workers(1, timeout=ANSWERS_WITHIN)
        versions = client.run(_version)
    except Exception as error:  # Whatever a worker raises that has none.
        told = type(error).__name__
        raise InputError(
            f"has no workers that run vinecompass ({told})", key="cluster", value=address, expected="one or more"
        ) from None
    others = sorted({version for version in versions.values() if version != __version__})
    if others:
        found = ", ".join(others)
        raise InputError("has workers of another version", key="cluster", value=found, expected=__version__)


def _version() -> str:
    from vinecompass import __version__

    return __version__


def _run_handed(handed: tuple[Case, float], trial: Trial) -> Score:
    case, bound = handed
    return case.run(trial, bound)


_case: tuple[Case, float] | None = None
"""What this process was handed."""


def _take(case: Case, bound: float) -> None:
    # Control-C is the study's to answer: its workers end with it.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    global _case
    _case = case, bound


def _run(trial: Trial) -> Score:
    assert _case is not None
    return _run_handed(_case, trial)
