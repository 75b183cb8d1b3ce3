"""Check a recorded run, stream by stream and against each other."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.fusion import (
    NOISES,
    Calibration,
    HeadingSource,
    clock_offset,
    contradictions,
    estimate_mount,
    learn_noise,
    lidar_elsewhere,
    noise_advice,
    scanner_track,
    turn_ratio,
    turned_lidar,
    without_bad_accelerations,
    wrong_sizes,
)
from vinecompass.geometry import compose, inverse, wrap_angle
from vinecompass.health.findings import SEVERITIES, Finding, Health
from vinecompass.health.frames import frame_links, missing_streams
from vinecompass.health.motion import (
    DEGREES,
    check_frozen_imu,
    check_slip,
    check_speeds,
    heading_in_degrees,
)
from vinecompass.health.readings import another_sweep, check_finite, check_ranges, dirty_beams, own_beams
from vinecompass.health.stamps import ANOTHER_TIME, MILLISECONDS, check_stamps, describe_stream
from vinecompass.health.wheel_faults import SWAP_COLUMNS, explain_wheels
from vinecompass.odometry import ScanMotion, dead_reckon
from vinecompass.runs import Run, Track, cleaned
from vinecompass.runs.order import inside_spans

__all__ = ["check"]

Progress = Callable[[float, str], None]
OFFSET_TOLERANCE = 0.04
"""Seconds by which two clocks may disagree."""
COARSE_TOLERANCE = 0.1
"""Seconds for wheels, as the body follows slipping ones late, and for a mirrored lidar, straightened the wrong way."""
FAR_TURNED = np.radians(15.0)
"""Radians by which a lidar looks so far from where it is filed that nothing made of the run is right."""
MOUNT_ADVICE = "put `mount` right in robot.toml: `vinecompass fuse RUN --estimate-mount` writes an amended file"
OTHER_AXES = "accelerations of another unit or axis"
MOTION_TOLD = {"jitter", "clock", "another rate than filed", "degrees taken for radians", OTHER_AXES}
"""Faults of wheels, IMU and odometry, with which they tell the motion even so."""
BLIND_FAULTS = {"silent scanner", "frozen scans", "gap", "jitter", "ranges out of limits"}
"""Faults of scans during which they tell no motion."""


@dataclass
class _Evidence:
    """What is gathered on the way."""

    findings: list[Finding] = field(default_factory=list)
    untold: list[str] = field(default_factory=list)
    offsets: dict[str, float] = field(default_factory=dict)
    calibration: Calibration | None = None

    def has(self, stream: str, *faults: str) -> bool:
        """Return whether a stream has one of these faults."""
        return any(finding.stream == stream and finding.fault in faults for finding in self.findings)


@checked
def check(run: Run, *, progress: Progress | None = None) -> Health:
    """Check a run: stamps, readings, units, clocks, the lidar's mount, slip, and what is missing.

    Parameters
    ----------
    run : Run
        Read with ``as_recorded=True`` where stamps or readings may be wrong.
    progress : callable, optional
        Called with the share done, 0 to 1, and a word.

    Returns
    -------
    Health

    Examples
    --------
    >>> from vinecompass import demo_file, read_robot, read_site, record_drive
    >>> site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
    >>> check(record_drive(site, robot, [(36.9, 24.6), (36.9, 22.0)], seed=1)).verdict
    'good'
    """
    evidence = _Evidence()
    streams = {name: describe_stream(stream.t) for name, stream in run.streams().items()}
    evidence.findings += check_stamps(run) + check_finite(run)
    usable, _ = cleaned(run, keep_repeats=True)
    if usable.scans is not None and len(usable.scans) > 1:
        evidence.findings += check_ranges(usable.scans, run.robot)
    if not any(f.fault in (ANOTHER_TIME, MILLISECONDS) for f in evidence.findings):
        _check_motion(usable, evidence, progress)
    _blame_wheels(evidence)
    order = sorted(evidence.findings, key=lambda finding: (SEVERITIES.index(finding.severity), finding.begin))
    worst = order[0].severity if order else None
    return Health(
        verdict="broken" if worst == "fatal" else "usable" if worst else "good",
        findings=tuple(order),
        streams=streams,
        missing=missing_streams(streams),
        frames=frame_links(run.robot, streams),
        clock_offsets=evidence.offsets,
        calibration=evidence.calibration,
        untold=tuple(evidence.untold),
    )


def _check_motion(run: Run, evidence: _Evidence, progress: Progress | None) -> None:
    """Compare the streams' motions, each check on what those before it left standing."""
    run, sensor, motions = _scan_motion(run, evidence, progress)
    run, finding = explain_wheels(run, sensor)
    evidence.findings += [] if finding is None else [finding]
    wheels = _check_reckoned(run, evidence)
    if not any(finding.stream in ("wheels", "odometry") for finding in evidence.findings):
        evidence.findings += _other_accelerations(run)
    headings = {
        name: HeadingSource.from_track(track) for name, track in (("wheels", wheels), ("scans", sensor)) if track
    }
    imu = _gyro_heading(run, headings, evidence)
    if imu is not None:
        headings["imu"] = imu
    _check_clocks(run, headings, evidence)
    # From here on, by one clock.
    shifts = {name: offset for name, offset in evidence.offsets.items() if evidence.has(name, "clock")}
    run = replace(
        run, **{name: _later(stream, shifts[name]) for name, stream in run.streams().items() if name in shifts}
    )
    sensor, wheels = _later(sensor, shifts.get("scans")), _later(wheels, shifts.get("wheels"))
    imu = _later(imu, shifts.get("imu"))
    body = None
    if wheels is not None and sensor is not None:
        mount, mirrored = _check_mount(run, sensor, evidence)
        # A mirrored scan was straightened the wrong way round: too coarse to find slip by.
        body = None if mirrored else Track(sensor.t, compose(compose(mount, sensor.poses), inverse(mount)))
    elif sensor is None:
        evidence.untold.append("the lidar's mount: there are no scans to compare with the wheels")
    else:
        evidence.untold.append("the lidar's mount: there are no wheels or odometry to compare the scans with")
    if wheels is None:
        return
    if body is None and imu is None:
        evidence.untold.append("slip: neither scans nor an IMU watch the wheels")
        return
    doubtful = np.array(
        [
            (f.begin, f.end)
            for f in evidence.findings
            if (f.stream == "scans" and f.fault in BLIND_FAULTS)
            or (f.stream in ("wheels", "imu", "odometry") and f.fault not in MOTION_TOLD)
        ]
    ).reshape(-1, 2)
    blind = np.array([m.t for m in motions if _is_blind(m, run)]) + shifts.get("scans", 0.0)
    gyro = None if imu is None else _without_bias(imu, wheels, doubtful)
    evidence.findings += check_slip(wheels, body, gyro, doubtful=doubtful, blind=blind)
    if not evidence.findings:
        evidence.findings += _wrong_noise(run, body)


def _other_accelerations(run: Run) -> Iterator[Finding]:
    """Find accelerations that are not those of the wheels: in another unit, or along other axes."""
    for sentence in without_bad_accelerations(run)[1]:
        assert run.imu is not None
        yield Finding(
            "serious",
            "imu",
            OTHER_AXES,
            sentence.removeprefix("imu: ").removesuffix(": left out"),
            float(run.imu.t[0]),
            float(run.imu.t[-1]),
            "import again with --how imu.acceleration=g if it counts in g, or put the IMU's mount right in robot.toml",
        )


def _wrong_noise(run: Run, body: Track | None) -> Iterator[Finding]:
    """Find noises that are filed so wrongly that a run in which nothing else is wrong contradicts them."""
    for name, noise in contradictions(learn_noise(run, body)).items():
        table, _ = NOISES[name]
        stream = "scans" if table == "lidar" else table
        t = run.streams()[stream].t
        yield Finding(
            "slight",
            stream,
            "noise filed wrongly",
            f"the robot file says {noise.filed:g}",
            float(t[0]),
            float(t[-1]),
            f"{noise_advice(name, noise)}; `fuse --estimate-mount` writes it",
        )


def _blame_wheels(evidence: _Evidence) -> None:
    """Where IMU and scans both turn against the wheels, it is the wheels that are wrong."""
    against = (("imu", "turns the other way"), ("scans", "mirrored lidar"))
    if all(evidence.has(*pair) for pair in against):
        both = [finding for finding in evidence.findings if (finding.stream, finding.fault) in against]
        evidence.findings = [finding for finding in evidence.findings if finding not in both]
        evidence.findings.append(
            Finding(
                "fatal",
                "wheels",
                "left and right swapped",
                "IMU and scans both turn the other way round than the wheels",
                both[0].begin,
                both[0].end,
                SWAP_COLUMNS,
            )
        )


def _is_blind(motion: ScanMotion, run: Run) -> bool:
    """Return whether a scan cannot tell the motion: in a plain place, or where it follows someone who walks by."""
    return motion.degenerate is not None or bool(np.hypot(*motion.velocity[:2]) > 1.15 * run.robot.drive.top_speed)


def _later(stream: Any, seconds: float | None) -> Any:
    """Return a stream (or None) with its stamps that much later (or as they are)."""
    return stream if stream is None or seconds is None else replace(stream, t=stream.t + seconds)


def _check_reckoned(run: Run, evidence: _Evidence) -> Track | None:
    """Check wheels and odometry by themselves; return the better of the two as a track."""
    wheels = None
    if run.wheels is not None:
        wheels = dead_reckon(run.wheels, run.robot.drive)
        evidence.findings += check_speeds("wheels", wheels, run.robot)
    odometry = run.odometry
    if odometry is not None:
        evidence.findings += check_speeds("odometry", odometry, run.robot)
        degrees = heading_in_degrees(odometry, None if wheels is None else HeadingSource.from_track(wheels))
        if degrees is not None:
            evidence.findings = [
                f for f in evidence.findings if (f.stream, f.fault) != ("odometry", "impossible speed")
            ]
            evidence.findings.append(degrees)
            odometry = Track(
                odometry.t, np.column_stack([odometry.poses[:, :2], wrap_angle(np.radians(odometry.poses[:, 2]))])
            )
    return wheels if wheels is not None else odometry


def _scan_motion(
    run: Run, evidence: _Evidence, progress: Progress | None
) -> tuple[Run, Track | None, list[ScanMotion]]:
    """Return the scanner's own track, unless its ranges are good for nothing; and the run, its sweep put right."""
    scans = run.scans
    if scans is None or len(scans) < 10:
        return run, None, []
    if any(f.stream == "scans" and f.severity == "fatal" for f in evidence.findings):
        evidence.untold.append("what the scans say of the motion: their ranges are wrong")
        return run, None, []
    # What sees the robot itself sees no motion.
    blind = own_beams(scans.ranges, run.robot) | dirty_beams(scans.ranges, run.robot)
    ranges = np.where(blind, np.float32("nan"), scans.ranges)
    seeing, track, motions, swept = scanner_track(replace(run, scans=replace(scans, ranges=ranges)), progress=progress)
    if np.median([motion.matched_share for motion in motions]) < 0.4:
        evidence.untold.append("what the scans say of the motion: they hardly match one another")
        return run, None, []
    if swept is not None and seeing.robot is not run.robot:
        evidence.findings.append(another_sweep(swept, scans))
    return replace(run, robot=seeing.robot), track, motions


def _gyro_heading(run: Run, others: dict[str, HeadingSource], evidence: _Evidence) -> HeadingSource | None:
    """Return the gyro's heading, in radians even where it reads degrees, which is found here."""
    if run.imu is None:
        return None
    imu = run.imu
    fastest = float(np.abs(imu.turn_rate).max())
    if fastest > 200.0 * run.robot.drive.top_turn_rate:
        evidence.findings.append(
            Finding(
                "fatal",
                "imu",
                "impossible turn rate",
                f"up to {fastest:.3g} rad/s; the robot file says {run.robot.drive.top_turn_rate:g} rad/s",
                float(imu.t[0]),
                float(imu.t[-1]),
                "check its unit and its cable",
            )
        )
        return None
    evidence.findings += check_frozen_imu(imu, others.get("wheels") or others.get("scans"))
    heading = HeadingSource.from_imu(imu)
    # The wheels judge, as scans may be mirrored; scans only where there are no wheels.
    for name in [name for name in ("wheels", "scans") if name in others][:1]:
        ratio = turn_ratio(heading, others[name])
        if 0.8 < abs(ratio) / DEGREES < 1.25:
            evidence.findings.append(
                Finding(
                    "fatal",
                    "imu",
                    "degrees taken for radians",
                    f"it turns {abs(ratio):.1f} times as fast as the {name}",
                    float(imu.t[0]),
                    float(imu.t[-1]),
                    "import again with --how imu.angle=deg",
                )
            )
            return HeadingSource(imu.t, np.radians(heading.turned))
        if ratio < -0.5 and not evidence.has("imu", "turns the other way"):
            evidence.findings.append(
                Finding(
                    "fatal",
                    "imu",
                    "turns the other way",
                    f"its turn rate is {ratio:.2f} times that of the {name}",
                    float(imu.t[0]),
                    float(imu.t[-1]),
                    "the IMU is upside down: change the sign of its turn rate",
                )
            )
            return HeadingSource(imu.t, -heading.turned)
    return heading


def _check_clocks(run: Run, headings: dict[str, HeadingSource], evidence: _Evidence) -> None:
    """Find streams whose clock is off from the gyro's (or else the wheels'), by when they turn."""
    reference = next((name for name in ("imu", "wheels", "scans") if name in headings), None)
    measured: dict[str, float] = {}
    tolerances = {"wheels": COARSE_TOLERANCE}
    for name in [name for name in headings if reference is not None and name != reference]:
        other, turned = headings[str(reference)], headings[name].turned
        # A mirrored lidar turns the other way round, at the same time.
        if clock_offset(headings[name], other) is None:
            turned, tolerances[name] = -turned, COARSE_TOLERANCE
        offset = clock_offset(HeadingSource(headings[name].t, turned), other)
        if offset is None:
            evidence.untold.append(f"the clock of {name} against that of {reference}: too little is turned to tell")
        else:
            measured[name] = offset
    # If all the others are off by the same, the reference itself is.
    values = list(measured.values())
    if len(values) > 1 and min(map(abs, values)) > COARSE_TOLERANCE and np.ptp(values) < OFFSET_TOLERANCE:
        measured = {str(reference): -float(np.mean(values))}
    evidence.offsets = measured
    for name, offset in measured.items():
        if abs(offset) > tolerances.get(name, OFFSET_TOLERANCE):
            t = headings[name].t
            advice = "stamp all streams by one clock"
            if name == "scans":
                advice += (
                    f", or set stamp_offset = {offset + run.robot.scanner.stamp_offset:.3f} for the lidar in robot.toml"
                )
            evidence.findings.append(
                Finding(
                    "serious",
                    name,
                    "clock",
                    f"its stamps are {abs(offset):.3f} s {'early' if offset > 0.0 else 'late'}, by the turning",
                    float(t[0]),
                    float(t[-1]),
                    advice,
                )
            )


def _check_mount(run: Run, sensor: Track, evidence: _Evidence) -> tuple[NDArray[np.float64], bool]:
    """Find a lidar that sits otherwise than the robot file says; return where it sits, and whether it is mirrored."""
    filed = run.robot.scanner.mount_pose
    try:
        calibration = estimate_mount(run, track=sensor)
    except InputError as error:
        evidence.untold.append(f"the lidar's mount: the run {error.problem}")
        return filed, False
    evidence.calibration = calibration
    values, whole = calibration.values, (float(sensor.t[0]), float(sensor.t[-1]))
    if calibration.mirrored:
        evidence.findings.append(
            Finding(
                "fatal",
                "scans",
                "mirrored lidar",
                "the scans turn the other way round than the wheels",
                *whole,
                "it hangs upside down, or its beams are listed in reverse: swap first_beam_deg and last_beam_deg in "
                "robot.toml",
            )
        )
    evidence.findings += _contradicted_mount(calibration, whole)
    mount = [values[key] for key in ("mount_x", "mount_y", "mount_heading")]
    return np.array([each.value if each.known else each.filed for each in mount]), calibration.mirrored


def _contradicted_mount(calibration: Calibration, whole: tuple[float, float]) -> Iterator[Finding]:
    """Find a lidar that looks another way or sits elsewhere, and wheels of another size, than the robot file says.

    `whole` is the run's first and last second.
    """
    if evidence := turned_lidar(calibration):
        heading = calibration.values["mount_heading"]
        far = abs(float(wrap_angle(heading.value - heading.filed))) > FAR_TURNED
        yield Finding("fatal" if far else "serious", "scans", "turned lidar", evidence, *whole, MOUNT_ADVICE)
    if evidence := lidar_elsewhere(calibration):
        yield Finding("serious", "scans", "lidar mounted elsewhere", evidence, *whole, MOUNT_ADVICE)
    for key, evidence in wrong_sizes(calibration).items():
        advice = f"put {key} right in robot.toml, or let --estimate-mount do it"
        yield Finding("serious", "wheels", f"wrong {key}", evidence, *whole, advice)


def _without_bias(imu: HeadingSource, wheels: Track, doubtful: NDArray[np.float64]) -> HeadingSource:
    """Take the gyro's bias off: the median of what it turns beyond the wheels, which slip only now and then.

    Spans ``(N, 2)`` in which some stream is known to be wrong tell nothing of it.
    """
    t = np.arange(wheels.t[0] + 0.5, wheels.t[-1] - 0.5, 0.1)
    t = t[(t > imu.t[0] + 0.5) & (t < imu.t[-1] - 0.5)]
    t = t[~inside_spans(t, doubtful, by=0.5)]
    if len(t) == 0:
        return imu
    bias = float(np.median(imu.rates(t) - HeadingSource.from_track(wheels).rates(t)))
    return HeadingSource(imu.t, imu.turned - bias * (imu.t - imu.t[0]))
