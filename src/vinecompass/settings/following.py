"""What can be tuned about local planning."""

from __future__ import annotations

from pydantic import Field

from vinecompass.files import Model, NotNegative, Positive, Whole
from vinecompass.settings.tuned import by_factor, evenly, tuned

__all__ = ["BandSettings", "FollowingSettings", "WindowSettings"]


class FollowingSettings(Model):
    """The ``[following]`` table of the settings."""

    planner: str = Field("window", description='"window", "band" or "path"')
    cruise_speed: Positive = tuned(
        3.0, by_factor(0.1, 3.0), "m/s; the robot's own limit holds besides", "speed, against clearance and comfort"
    )
    tight_speed: Positive = tuned(
        0.3, by_factor(0.05, 1.0), "speed where the body just fits, m/s", "speed in doorways, against clearance"
    )
    tight_gap: Positive = tuned(
        0.4, evenly(0.1, 1.0), "gap beside the body from which it cruises, m", "slow and sure passes, against time"
    )
    look_ahead: Positive = tuned(
        0.4, evenly(0.15, 1.2), "how far ahead on the path it aims at standstill, m", "smoothness, against cut corners"
    )
    look_ahead_time: Positive = tuned(
        0.5, evenly(0.1, 1.5), "and how much farther per m/s, s", "smoothness at speed, against cut corners"
    )
    sideways_acceleration: Positive = tuned(
        0.5, by_factor(0.1, 2.0), "highest in curves, m/s2", "speed in curves, against comfort and slip"
    )
    position_tolerance: Positive = tuned(
        0.02, by_factor(0.005, 0.1), "the position is reached within this, m", "quick arrivals, against exact ones"
    )
    heading_tolerance_deg: Positive = tuned(
        0.8, by_factor(0.2, 5.0), "the heading is reached within this, degrees", "quick arrivals, against exact ones"
    )


class WindowSettings(Model):
    """The ``[window]`` table of the settings: what the velocity window weighs, in seconds."""

    speeds: Whole = tuned(
        9, by_factor(3, 25), "speeds that are tried, a whole number", "finer choice, against computing time"
    )
    turn_rates: Whole = tuned(
        25,
        by_factor(5, 61),
        "turn rates that are tried at each of them, a whole number",
        "finer choice, against computing time",
    )
    reach: Positive = tuned(
        0.3,
        by_factor(0.1, 1.0),
        "time within which a velocity can be reached to be tried, s",
        "bolder changes, against smoothness",
    )
    horizon: Positive = tuned(
        1.0,
        by_factor(0.4, 3.0),
        "time for which each is rolled out, s",
        "foresight, against computing time and room in narrow places",
    )
    offset: NotNegative = tuned(
        3.0,
        by_factor(0.1, 20.0),
        "charge for each metre beside the plan, s",
        "keeping to the plan, against keeping off obstacles",
    )
    heading: NotNegative = tuned(
        0.5,
        by_factor(0.05, 5.0),
        "charge for each radian off the plan's direction, s",
        "keeping to the plan's direction, against short cuts",
    )
    clearance: NotNegative = tuned(
        0.6,
        by_factor(0.05, 5.0),
        "charge for touching; falls to none at tight_gap, s",
        "room beside the body, against time",
    )
    smoothness: NotNegative = tuned(
        0.12, by_factor(0.01, 1.0), "charge for each rad/s of change in turn rate, s", "smoothness, against quick turns"
    )
    strictness: NotNegative = tuned(
        6.0,
        evenly(0.0, 20.0),
        "how many times more straying is charged where the body just fits",
        "leading straight into doorways, against going round what stands in them",
    )


class BandSettings(Model):
    """The ``[band]`` table of the settings."""

    horizon: Positive = tuned(
        4.0, evenly(1.5, 8.0), "how far along the plan the band reaches, m", "foresight, against computing time"
    )
    interval: Positive = tuned(
        0.25,
        by_factor(0.1, 0.5),
        "time between two of its poses, s",
        "coarser bands that cost less, against exact ones",
    )
    iterations: Whole = tuned(
        8,
        by_factor(2, 30),
        "steps of the optimisation in a cycle, a whole number",
        "better bands, against computing time",
    )
    spare: NotNegative = tuned(
        0.08,
        evenly(0.02, 0.4),
        "gap that it keeps to everything where there is room, m",
        "room beside the body, against narrow places",
    )
    alternatives: Whole = tuned(
        2,
        evenly(1, 8),
        "bands kept in parallel, each past the obstacles on other sides",
        "other sides of obstacles, against computing time",
    )
    loyalty: NotNegative = tuned(
        0.12,
        evenly(0.0, 0.5),
        "share by which another band must be quicker to be taken instead",
        "no dithering between sides, against time",
    )
    clearance: Positive = tuned(
        100.0,
        by_factor(10.0, 1000.0),
        "charge for the square of a metre that a gap lacks, over a second, s",
        "gaps that are kept, against time",
    )
    swerve: Positive = tuned(
        0.35,
        evenly(0.1, 1.0),
        "gap beside the body with which a way past something is begun, m",
        "finding the other side of wide things, against staying in narrow places",
    )
    wrong_side: NotNegative = tuned(
        3.0,
        by_factor(0.3, 30.0),
        "charge for passing a person on the side that is not preferred, s",
        "the preferred side, against time",
    )
    steering_time: Positive = tuned(
        0.3,
        by_factor(0.1, 1.0),
        "time over which it steers to the band, s",
        "smooth steering, against cut corners",
    )
