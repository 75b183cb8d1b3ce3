"""How long a base takes to do what it is told: its delay and its lag, from commands and motion."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

from vinecompass.fusion.calibrating.estimated_value import EstimatedValue, curvature_errors
from vinecompass.robot import Drive
from vinecompass.runs import Commands

__all__ = ["base_response"]

FloatArray = NDArray[np.float64]
STEP = 0.01
"""Seconds between two moments at which the motion is reckoned."""
LONGEST, ENOUGH = 0.6, 0.02
"""Seconds that delay and lag may be at most, and the standard error at which they are worth amending."""
SCATTER = 0.03
"""m/s by which a velocity differs from what the base was told, delayed and smoothed; slip, far more, hardly counts."""
TURNING_ARM = 0.3
"""Metres by which a turn rate is compared with speeds."""
LEAST_CHANGE = 2.0
"""m/s by which the velocities commanded must have changed in all, or nothing is estimated."""


def base_response(drive: Drive, commands: Commands, t: FloatArray, velocities: FloatArray) -> dict[str, EstimatedValue]:
    """Estimate the delay and the lag of a base.

    Parameters
    ----------
    drive : Drive
        What is filed.
    commands : Commands
    t : array, (N,)
        Moments of the motion measured, s.
    velocities : array, (N, 3)
        The body's speed ahead and to the left, m/s, and turn rate, rad/s, by wheels or odometry.

    Returns
    -------
    dict of str to EstimatedValue
        ``delay`` and ``lag``, s; nothing if the commands changed too little to tell.

    Notes
    -----
    A pure delay and a first-order lag, by robust nonlinear least squares from the best of a grid.
    """
    # Its import takes as long as all others together, and only this needs it.
    from scipy.signal import lfilter

    told = np.column_stack([commands.speed, commands.turn_rate])
    if np.abs(np.diff(told * [1.0, TURNING_ARM], axis=0)).sum() < LEAST_CHANGE:
        return {}
    made = velocities[:, [0, 2]] * [1.0, TURNING_ARM]
    inside = (t > commands.t[0] + 2.0 * LONGEST) & (t < commands.t[-1])
    moments = np.arange(commands.t[0], commands.t[-1] + STEP, STEP)
    in_force = told[np.searchsorted(commands.t, moments + 1e-9, side="right") - 1]
    # What is told in steps is made in ramps, at the drive's own accelerations.
    limits = [max(drive.acceleration, drive.braking), drive.turn_acceleration]
    ramps = np.column_stack([_ramped(each, STEP * most) for each, most in zip(in_force.T, limits, strict=True)])
    ramps[:, 1] *= TURNING_ARM

    def residuals(p: FloatArray) -> FloatArray:
        """Return how far the motion is from what the base was told, delayed and smoothed."""
        share = -np.expm1(-STEP / max(p[1], 1e-3))
        smooth = lfilter([share], [1.0, share - 1.0], ramps, axis=0)
        expected = np.column_stack([np.interp(t[inside] - p[0], moments, each) for each in smooth.T])
        return np.asarray((expected - made[inside]).ravel() / SCATTER)

    grid = [np.array([delay, lag]) for delay in np.arange(0.0, 0.5, 0.05) for lag in np.arange(0.01, 0.4, 0.05)]
    first = min(grid, key=lambda p: float(np.sum(np.log1p(residuals(p) ** 2))))
    fit = least_squares(
        residuals, first, bounds=([0.0, 0.0], [LONGEST, LONGEST]), loss="cauchy", diff_step=[1e-2, 1e-2]
    )
    spread = max(1.4826 * float(np.median(np.abs(fit.fun))), 0.2)
    # Neighbouring readings err alike: as many of them as make a lag count once.
    together = np.sqrt(max((first[1] + STEP) / float(np.median(np.diff(t))), 1.0))
    errors = spread * together * curvature_errors(fit.jac)
    return {
        "delay": EstimatedValue(float(fit.x[0]), float(errors[0]), drive.delay, ENOUGH),
        "lag": EstimatedValue(float(fit.x[1]), float(errors[1]), drive.lag, ENOUGH),
    }


def _ramped(steps: FloatArray, most: float) -> FloatArray:
    """Return values ``(N,)`` that follow others, but change by no more than so much from each to the next."""
    result, now = np.empty(len(steps)), float(steps[0])
    for i, wanted in enumerate(steps.tolist()):
        now += min(max(wanted - now, -most), most)
        result[i] = now
    return result
