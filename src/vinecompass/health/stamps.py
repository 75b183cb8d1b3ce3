"""Are the stamps sound: order, rate, gaps, jitter?"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from vinecompass.health.findings import Finding, StreamHealth
from vinecompass.robot import Robot
from vinecompass.runs import Run
from vinecompass.runs.order import rows_in_order, spans_of
from vinecompass.runs.stamping import Stamps, guess_stamps

__all__ = ["ANOTHER_TIME", "MILLISECONDS", "check_stamps", "describe_stream"]

ANOTHER_TIME, MILLISECONDS = "another time", "milliseconds taken for seconds"
"""Faults of stamps that keep streams from being compared."""
SHORTEST_GAP, GAP_PERIODS = 0.1, 2.5
"""A pause is a gap if it is longer than this many seconds, and than this many periods."""
LONG_GAP = 1.0
"""Seconds without readings after which dead reckoning and matching may lose the robot."""
JITTER, SPANS_TOLD = 0.15, 5
"""Share of a period by which a stamp may be off its beat, and the most spans of it that are told one by one."""
RATE_TOLERANCE = 0.2
MISSING = 3.0
"""Seconds by which a stream may begin after others, or end before them: loggers are started one by one."""


def describe_stream(t: NDArray[np.float64]) -> StreamHealth:
    """Return a stream in numbers, by its stamps ``(N,)``."""
    good = t[rows_in_order(t)]
    nothing = float("nan")
    begin, end = (float(good[0]), float(good[-1])) if len(good) else (nothing, nothing)
    steps = np.diff(good)
    if len(steps) == 0:
        return StreamHealth(len(t), begin, end, nothing, nothing, nothing)
    period = float(np.median(steps))
    jitter = float(np.percentile(np.abs(steps / period - 1.0), 200.0 / 3.0))
    return StreamHealth(len(t), begin, end, 1.0 / period, float(steps.max()), jitter)


def check_stamps(run: Run) -> list[Finding]:
    """Return what is wrong with the stamps of each stream."""
    findings = []
    for name, stream in run.streams().items():
        if name in ("truth", "commands"):
            continue
        if len(stream.t) == 1:
            findings.append(
                Finding(
                    "serious",
                    name,
                    "a single reading",
                    "1 row",
                    float(stream.t[0]),
                    float(stream.t[0]),
                    "record again, or leave the stream out: one reading says nothing of motion",
                )
            )
            continue
        stamped, why = guess_stamps(stream.t)
        findings += _order(name, stream.t, stamped, why)
        keep = rows_in_order(stream.t)
        if stamped == "bundled":
            if np.all(keep):
                findings.append(_bundled(name, stream.t, why))
            continue
        findings += _beat(name, stream.t[keep], run.robot, disordered=not np.all(keep))
    in_milliseconds = {finding.stream for finding in findings if finding.fault == MILLISECONDS}
    spans = _spans(run)
    of_several = [*_missing(spans), *_apart(spans)]
    return findings + [finding for finding in of_several if finding.stream not in in_milliseconds]


def _bundled(name: str, t: NDArray[np.float64], why: str) -> Finding:
    """Return what is wrong with a stream whose readings came in bundles, each stamped when it arrived."""
    return Finding("serious", name, "stamps in bundles", why, float(t[0]), float(t[-1]), _mended(name, "bundled"))


def _mended(name: str, stamped: Stamps) -> str:
    """Return what to do about stamps that can be mended."""
    cause = "keep the clock from being set during a drive" if stamped == "set_back" else "stamp readings when taken"
    return f"{cause}; results mend the stamps, and so does `import --how {name}.stamps={stamped}`"


def _order(name: str, t: NDArray[np.float64], stamped: Stamps, why: str) -> list[Finding]:
    """Find stamps out of order; of those that can be mended, `why` says what happened to them."""
    keep = rows_in_order(t)
    if np.all(keep):
        return []
    # Rows to leave out have no times to go by; their neighbours do.
    kept = np.flatnonzero(keep)
    if len(kept) == 0:
        return [
            Finding(
                "fatal",
                name,
                "stamps are not numbers",
                f"none of {len(t)} rows",
                0.0,
                0.0,
                "check the logger's clock and the column t",
            )
        ]
    out = np.flatnonzero(~keep)
    before, after = np.searchsorted(kept, out) - 1, np.searchsorted(kept, out)
    begin = float(t[kept[max(before[0], 0)]])
    end = float(t[kept[min(after[-1], len(kept) - 1)]])
    twice = int(np.sum(np.diff(t) == 0.0))
    back = int(np.sum(np.diff(t) < 0.0))
    infinite = int(np.sum(~np.isfinite(t)))
    word = "stamps twice" if twice > back else "stamps run backwards"
    if infinite > max(twice, back):
        word = "stamps are not numbers"
    return [
        Finding(
            "fatal" if stamped == "each" and len(out) > 0.2 * len(t) else "serious",
            name,
            word,
            why
            or f"{len(out)} of {len(t)} rows are out of order ({back} steps back, {twice} stamps twice, {infinite} not "
            "finite)",
            begin,
            end,
            _mended(name, stamped)
            if stamped != "each"
            else "check the logger's clock; these rows are left out of every result",
        )
    ]


def _beat(name: str, t: NDArray[np.float64], robot: Robot, *, disordered: bool) -> list[Finding]:
    """Find gaps, scatter, and another rate than filed in the stamps of a stream."""
    if len(t) < 4:
        return []
    period = float(np.median(np.diff(t)))
    findings = list(_rate(name, t, period, robot))
    if not disordered:
        gaps = np.flatnonzero(np.diff(t) > max(GAP_PERIODS * period, SHORTEST_GAP))
        findings = [*_gaps(name, t, period, gaps), *_jitter(name, t, period, gaps), *findings]
    return findings


def _gaps(name: str, t: NDArray[np.float64], period: float, gaps: NDArray[np.int64]) -> Iterator[Finding]:
    """Find the five longest gaps; `gaps` are the rows before each."""
    steps = np.diff(t)
    for gap in sorted(gaps[np.argsort(-steps[gaps], kind="stable")][:5]):
        long = steps[gap] > LONG_GAP
        yield Finding(
            "serious" if long else "slight",
            name,
            "gap",
            f"nothing for {steps[gap]:.2f} s, at {1.0 / period:.0f} Hz",
            float(t[gap]),
            float(t[gap + 1]),
            "look for a lost connection or a full disk" + ("; drive this stretch again" if long else ""),
        )


def _jitter(name: str, t: NDArray[np.float64], period: float, gaps: NDArray[np.int64]) -> Iterator[Finding]:
    """Find spans in which stamps come unevenly, besides the gaps; as one, if they do again and again."""
    steps = np.diff(t)
    regular = np.ones(len(steps), bool)
    regular[gaps] = False
    off_beat = regular & (np.abs(steps / period - 1.0) > JITTER)
    spans = [
        (begin, end)
        for begin, end in spans_of(t[1:][off_beat], apart=12.0 * period, shortest=4.0 * period)
        if np.mean(off_beat[_within(t[1:], begin, end)]) > 0.3
    ]
    again = f", {len(spans)} times" if len(spans) > SPANS_TOLD else ""
    for begin, end in [(spans[0][0], spans[-1][1])] if again else spans:
        spread = float(np.std(steps[_within(t[1:], begin, end) & regular]))
        yield Finding(
            "slight",
            name,
            "jitter",
            f"steps scatter by {1000.0 * spread:.0f} ms about {1000.0 * period:.0f} ms{again}",
            float(begin),
            float(end),
            "stamp readings where they are taken, not where they arrive",
        )


def _within(t: NDArray[np.float64], begin: float, end: float) -> NDArray[np.bool_]:
    return np.asarray((t >= begin) & (t <= end))


def _rate(name: str, t: NDArray[np.float64], period: float, robot: Robot) -> Iterator[Finding]:
    """Find a stream that comes at another rate than the robot file says."""
    filed = {"scans": robot.scanner.rate, "wheels": robot.wheels.rate, "imu": robot.imu.rate}.get(name)
    if filed is not None and abs(1000.0 / period / filed - 1.0) < RATE_TOLERANCE:
        yield Finding(
            "fatal",
            name,
            MILLISECONDS,
            f"{1.0 / period:.2g} Hz, the robot file says {filed:g} Hz",
            float(t[0]),
            float(t[-1]),
            f"import again with --how {name}.time=ms",
        )
    elif filed is not None and abs(1.0 / period / filed - 1.0) > RATE_TOLERANCE:
        yield Finding(
            "slight",
            name,
            "another rate than filed",
            f"{1.0 / period:.1f} Hz, the robot file says {filed:g} Hz",
            float(t[0]),
            float(t[-1]),
            "put the rate right in robot.toml: beams are timed by it",
        )


def _spans(run: Run) -> dict[str, tuple[float, float]]:
    """Return from when to when each stream has readings that are in order."""
    ordered = {
        name: stream.t[rows_in_order(stream.t)]
        for name, stream in run.streams().items()
        if name not in ("truth", "commands")
    }
    return {name: (float(t[0]), float(t[-1])) for name, t in ordered.items() if len(t)}


def _missing(spans: dict[str, tuple[float, float]]) -> Iterator[Finding]:
    """Find streams that begin long after the others, or end long before."""
    spans = {name: (first, last) for name, (first, last) in spans.items() if name != "position" and first < last}
    if len(spans) < 2:
        return
    # What all but one do is what the run does: a single stream that goes on alone is not missed by the others.
    begin, end = sorted(first for first, _ in spans.values())[1], sorted(last for _, last in spans.values())[-2]
    for name, (first, last) in spans.items():
        if begin + MISSING < first < end:
            evidence = f"nothing before {first:.1f} s, others begin at {begin:.1f} s"
            yield Finding("serious", name, "begins late", evidence, begin, first, "start all loggers before the drive")
        if begin < last < end - MISSING:
            evidence = f"nothing after {last:.1f} s, others go on to {end:.1f} s"
            yield Finding(
                "serious", name, "ends early", evidence, last, end, "look for a lost connection or a full disk"
            )


def _apart(spans: dict[str, tuple[float, float]]) -> list[Finding]:
    """Find streams that do not share a stretch of time with the one that shares it with most others.

    Of several, that is the one whose readings begin first in `Run`.
    """

    def apart_from(name: str) -> list[str]:
        begin, end = spans[name]
        return [other for other, (first, last) in spans.items() if first > end or last < begin]

    if not spans:
        return []
    reference = min(spans, key=lambda name: len(apart_from(name)))
    begin, end = spans[reference]
    return [
        Finding(
            "fatal",
            name,
            ANOTHER_TIME,
            f"{spans[name][0]:.1f} to {spans[name][1]:.1f} s, {reference} {begin:.1f} to {end:.1f} s",
            *spans[name],
            "stamp all streams by one clock, or import again with --how STREAM.time=UNIT",
        )
        for name in apart_from(reference)
    ]
