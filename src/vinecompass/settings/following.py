"""What can be tuned about local planning."""

from __future__ import annotations

from pydantic import Field

from vinecompass.files import Model, NotNegative, Positive, Whole

__all__ = ["BandSettings", "FollowingSettings", "WindowSettings"]


class FollowingSettings(Model):
    """The ``[following]`` table of the settings."""

    planner: str = Field("window", description='"window", "band" or "path"')
    cruise_speed: Positive = Field(3.0, description="m/s; the robot's own limit holds besides")
    tight_speed: Positive = Field(0.3, description="speed where the body just fits, m/s")
    tight_gap: Positive = Field(0.4, description="gap beside the body from which it cruises, m")
    look_ahead: Positive = Field(0.4, description="how far ahead on the path it aims at standstill, m")
    look_ahead_time: Positive = Field(0.5, description="and how much farther per m/s, s")
    sideways_acceleration: Positive = Field(0.5, description="highest in curves, m/s2")
    position_tolerance: Positive = Field(0.02, description="the position is reached within this, m")
    heading_tolerance_deg: Positive = Field(0.8, description="the heading is reached within this, degrees")


class WindowSettings(Model):
    """The ``[window]`` table of the settings: what the velocity window weighs, in seconds."""

    speeds: Whole = Field(9, description="speeds that are tried, a whole number")
    turn_rates: Whole = Field(25, description="turn rates that are tried at each of them, a whole number")
    reach: Positive = Field(0.3, description="time within which a velocity can be reached to be tried, s")
    horizon: Positive = Field(1.0, description="time for which each is rolled out, s")
    offset: NotNegative = Field(3.0, description="charge for each metre beside the plan, s")
    heading: NotNegative = Field(0.5, description="charge for each radian off the plan's direction, s")
    clearance: NotNegative = Field(0.6, description="charge for touching; falls to none at tight_gap, s")
    smoothness: NotNegative = Field(0.12, description="charge for each rad/s of change in turn rate, s")


class BandSettings(Model):
    """The ``[band]`` table of the settings."""

    horizon: Positive = Field(4.0, description="how far along the plan the band reaches, m")
    interval: Positive = Field(0.25, description="time between two of its poses, s")
    iterations: Whole = Field(8, description="steps of the optimisation in a cycle, a whole number")
    spare: NotNegative = Field(0.08, description="gap that it keeps to everything where there is room, m")
    alternatives: Whole = Field(4, description="bands kept in parallel, each past the obstacles on other sides")
    loyalty: NotNegative = Field(0.12, description="share by which another band must be quicker to be taken instead")
