"""Who provides each link of the frame tree, and what a missing stream will cost."""

from __future__ import annotations

from vinecompass.health.findings import FrameLink, StreamHealth
from vinecompass.robot import Robot

__all__ = ["frame_links", "missing_streams"]

COSTS = {
    "scans": "no map, no localization and no obstacles: nothing after `fuse` can be done",
    "wheels": "odometry must come from an odometry stream or from the scans alone",
    "odometry": "none: it is reckoned from the wheels",
    "imu": "slip on a wet floor is seen by the scans only, and headings drift with the wheels",
    "position": "none indoors: the track drifts until it is localized in a map",
    "truth": "errors cannot be measured, only agreement",
    "commands": "what the robot was told cannot be compared with what it did",
}


def missing_streams(streams: dict[str, StreamHealth]) -> dict[str, str]:
    """Return the streams that were not recorded, and what each will cost later."""
    missing = {name: cost for name, cost in COSTS.items() if name not in streams}
    if "wheels" not in streams and "odometry" not in streams:
        missing["wheels"] = missing["odometry"] = (
            "`map` and `locate` need one of them: make one with `fuse` from the scans"
        )
    return missing


def frame_links(robot: Robot, streams: dict[str, StreamHealth]) -> tuple[FrameLink, ...]:
    """Return the links from the site down to every sensor."""
    provider = next((name for name in ("odometry", "wheels", "scans") if name in streams), None)
    by = {"odometry": "odometry stream", "wheels": "dead reckoning from wheels", "scans": "laser odometry from scans"}
    site = "position" if "position" in streams else None
    links = [
        FrameLink(
            "site",
            "track",
            "position fixes" if site else None,
            streams[site].rate if site else None,
            "planning and driving in a map; `locate` provides it",
        ),
        FrameLink(
            "track",
            "body",
            by[provider] if provider else None,
            streams[provider].rate if provider else None,
            "`map`, `locate` and following",
        ),
        _sensor(robot.scanner.name, "scans", robot.scanner.mount, streams, "`map`, `locate` and obstacles"),
        _sensor("imu", "imu", robot.imu.mount, streams, "`fuse` where wheels slip"),
    ]
    if robot.position is not None:
        links.append(_sensor("position", "position", (*robot.position.mount, 0.0), streams, "`fuse` in the site frame"))
    return tuple(links)


def _sensor(
    frame: str, stream: str, mount: tuple[float, float, float], streams: dict[str, StreamHealth], needed_for: str
) -> FrameLink:
    x, y, heading_deg = mount
    place = f"robot.toml: [{x:g} m, {y:g} m, {heading_deg:g} deg]"
    found = streams.get(stream)
    return FrameLink("body", frame, place if found else None, found.rate if found else None, needed_for)
