"""How a text table is written, by its first lines: comments, delimiter, decimal sign, header, and what is where."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from vinecompass.importing.table_format import is_cut
from vinecompass.robot import Robot

__all__ = ["guess_columns", "guess_text"]

DELIMITERS = {",": ",", ";": ";", "\t": "tab", "|": "|", " ": " "}
COMMENTS = ("#", "%", "//")
HEAD, LINES = 2**20, 40
"""So many bytes, and so many lines of them, are looked at."""
MEANINGS: dict[str, tuple[set[str], ...]] = {
    "t": ({"t"}, {"time"}, {"stamp"}, {"timestamp"}, {"clock"}, {"date"}, {"datetime"}, {"sec"}, {"secs"}, {"seconds"}),
    "nanoseconds": ({"nanosec"}, {"nanosecs"}, {"nanoseconds"}, {"nsec"}, {"nsecs"}),
    "left": ({"left"}, {"l"}),
    "right": ({"right"}, {"r"}),
    "steering": ({"steering"}, {"steer"}),
    "x": ({"position", "x"}, {"pos", "x"}, {"pose", "x"}, {"x"}),
    "y": ({"position", "y"}, {"pos", "y"}, {"pose", "y"}, {"y"}),
    "heading": ({"heading"}, {"theta"}, {"phi"}, {"direction"}, {"angle"}),
    "speed": ({"speed"}, {"velocity"}, {"v"}, {"vx"}),
    "sideways": ({"sideways"}, {"vy"}, {"lateral"}),
    "turn_rate": ({"turn"}, {"gyro", "z"}, {"gyro"}, {"omega"}, {"wz"}, {"w"}, {"gz"}),
    "acceleration_x": ({"acceleration", "x"}, {"acc", "x"}, {"ax"}, {"a", "x"}),
    "acceleration_y": ({"acceleration", "y"}, {"acc", "y"}, {"ay"}, {"a", "y"}),
    "beam": ({"beam"}, {"ray"}, {"index"}),
    "angle": ({"angle"}, {"bearing"}, {"azimuth"}),
    "range": ({"range"}, {"distance"}, {"dist"}),
    "angles": ({"angles"}, {"bearings"}, {"azimuths"}, {"angle"}),
    "first_angle": ({"first", "angle"}, {"angle", "start"}, {"min", "angle"}),
    "angle_step": ({"angle", "step"}, {"increment", "angle"}),
    "ranges": ({"ranges"}, {"range"}, {"distances"}, {"distance"}),
}
"""The words that a column's name must hold to be taken for one of ours, the surest first."""


LIMITS = {"min", "max", "increment", "step"}
"""Words in the names of columns that tell of a scanner, and not of a reading."""
QUATERNIONS = {"quaternion", "quat", "orientation", "rotation", "q"}
"""Words of which the name of a quaternion's part holds one."""


def guess_text(text: bytes) -> tuple[dict[str, object], list[str]]:
    """Return how a table is written, by its first lines and its last: keys of `TableFormat`, and why."""
    head = text[:HEAD].decode("utf-8-sig", errors="replace")
    lines = [line for line in head.splitlines() if line.strip()][:LINES]
    how: dict[str, object] = {}
    reasons = []
    for mark in COMMENTS:
        if lines and lines[0].lstrip().startswith(mark):
            how["comment"] = mark
            lines = [line for line in lines if not line.lstrip().startswith(mark)]
            reasons.append(f"comment = {mark}: the first line begins so")
    if not lines:
        return how, reasons
    whole = lines[:-1] if len(lines) > 2 else lines
    delimiter = max(DELIMITERS, key=lambda sign: _columns(whole, sign))
    how["delimiter"] = DELIMITERS[delimiter]
    rows = [[field.strip().strip('"') for field in _split(line, delimiter)] for line in lines]
    if delimiter != ",":
        reasons.append(f"delimiter = {DELIMITERS[delimiter]}: it makes {len(rows[0])} columns of every line")
        if any(re.fullmatch(r"[-+]?\d+,\d+", field) for row in rows[1:] for field in row):
            how["decimal"] = ","
            reasons.append("decimal = ,: numbers have one")
    if all(_is_number(field, how.get("decimal") == ",") for field in rows[0] if field):
        how["header"] = False
        reasons.append("header = false: the first line is numbers")
    last = _split(text.rstrip(b"\r\n").rpartition(b"\n")[2].decode(errors="replace"), delimiter)
    if is_cut(last, rows[0]) and not last[0].lstrip().startswith(COMMENTS):
        how["cut"] = True
        reasons.append(f"cut = true: the last row ends within its column {len(last)} of {len(rows[0])}")
    return how, reasons


def _columns(lines: Sequence[str], sign: str) -> int:
    """Return into how many columns a sign cuts all lines alike; 0 if not alike, or not at all."""
    counts = {len(_split(line, sign)) for line in lines}
    return counts.pop() if len(counts) == 1 and counts != {1} else 0


def _split(line: str, sign: str) -> list[str]:
    return line.split() if sign == " " else line.rstrip("\r\n").split(sign)


def _is_number(text: str, comma: bool) -> bool:
    try:
        float(text.replace(",", ".") if comma else text)
    except ValueError:
        return False
    return True


def words_of(name: str) -> set[str]:
    """Return the words in a column's name.

    >>> sorted(words_of("encLeft_ms [mm]"))
    ['enc', 'left', 'mm', 'ms']
    """
    return {word.lower() for word in re.findall(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])", name)}


def guess_columns(
    stream: str,
    names: Sequence[str],
    robot: Robot,
    is_stamp: Callable[[str], bool],
    lists: Sequence[str],
) -> tuple[dict[str, str], list[str]]:
    """Return which of a table's columns is which of ours, where the names differ, and which are none of them.

    Parameters
    ----------
    stream : str
    names : sequence of str
    robot : Robot
        Whose wheels are named.
    is_stamp : callable
        Tells of a column whether it goes up steadily.
    lists : sequence of str
        Columns whose cells are lists of numbers: one of them holds the ranges of scans.
    """
    wanted = {
        "scans": ["t"],
        "wheels": ["t", *robot.drive.wheel_names, *(["steering"] if robot.drive.steered else [])],
        "imu": ["t", "turn_rate", "acceleration_x", "acceleration_y"],
        "position": ["t", "x", "y"],
    }.get(stream, ["t", "x", "y", "heading"])
    # The angle of the first beam, or the longest range, is that of no reading.
    readings = [words for words in map(words_of, names) if words.isdisjoint(LIMITS)]
    if (
        stream == "scans"
        and any({"beam", "angle", "bearing", "azimuth"} & words for words in readings)
        and sum(bool({"range", "distance", "dist"} & words) for words in readings) == 1
    ):
        wanted = ["t", "beam" if any({"beam", "index"} & words for words in readings) else "angle", "range"]
    if stream == "odometry" and not any("x" in words_of(name) for name in names):
        wanted = ["t", "speed", "turn_rate"]
    found = _parts_of_quaternions(names) if "heading" in wanted else {}
    if found:
        wanted.remove("heading")
    if lists:
        wanted, found = ["t"], _lists_of_scans(names, lists)
    # What goes up all the time is no part of a second.
    parts = _like("nanoseconds", [name for name in names if not is_stamp(name)])
    if parts is not None:
        found["nanoseconds"] = parts
    for ours in wanted:
        left = [name for name in names if name not in found.values()]
        theirs = ours if ours in left else _like(ours, left)
        if theirs is None and ours == "t":
            theirs = next((name for name in left if is_stamp(name)), None)
        if theirs is not None:
            found[ours] = theirs
    rest = [name for name in names if name not in found.values()]
    return found, rest


def _lists_of_scans(names: Sequence[str], lists: Sequence[str]) -> dict[str, str]:
    """Return which columns hold the ranges of scans, and where those point if a column tells, by ours."""
    found = {"ranges": _like("ranges", lists) or lists[0]}
    angles = _like("angles", [name for name in lists if name != found["ranges"]])
    if angles is not None:
        return {**found, "angles": angles}
    first, step = (_like(key, [name for name in names if name not in lists]) for key in ("first_angle", "angle_step"))
    return found if first is None or step is None else {**found, "first_angle": first, "angle_step": step}


def _parts_of_quaternions(names: Sequence[str]) -> dict[str, str]:
    """Return which columns are parts of a quaternion, by ours; empty if there is none."""
    found = {}
    for part in "xyzw":
        for name in names:
            words = words_of(name)
            if f"q{part}" in words or (part in words and not words.isdisjoint(QUATERNIONS)):
                found[f"quaternion_{part}"] = name
                break
    return found if {"quaternion_z", "quaternion_w"} <= found.keys() else {}


def _like(ours: str, names: Sequence[str]) -> str | None:
    """Return the column whose name says most surely that it is one of ours."""
    for words in MEANINGS.get(ours, ({ours},)):
        for name in names:
            if words <= words_of(name):
                return name
    return None
