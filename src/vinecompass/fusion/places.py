"""Names for every place in a state of the fusion filter, in an event, and among its parameters.

The state has 21 parts with a covariance, and after them a memory without one. An event is a reading: its stamp, its
kind, and up to 10 numbers. A log row holds an event, and the state and the covariance (21 x 21) after it.
"""

from __future__ import annotations

STATES = 21
(
    X,
    Y,
    HEADING,
    AHEAD,
    LEFT,
    TURN_RATE,
    GYRO_BIAS,
    PUSH_BIAS_X,
    PUSH_BIAS_Y,
    CREEP_WAY,
    CREEP_TURNED,
    GYRO_GAIN,
    WHEEL_GAIN,
    WHEEL_VEER,
    WHEEL_TURN,
    REFERENCE_X,
    REFERENCE_Y,
    REFERENCE_HEADING,
    WAY_AHEAD,
    WAY_LEFT,
    WAY_TURNED,
) = range(STATES)
"""The parts of a state: the pose; speeds ahead and to the left, turn rate; biases of gyro and accelerations; creep of
the wheels, a share of their rolling, ahead and in turning; by what share the gyro tells too much turn rate, and the
wheels too much way; how far the wheels turn for each metre straight on, rad/m, and by what share they turn too far; the
pose at a reference a little while ago, with a scan where there are any; and the way since the last wheel reading."""
(
    T,
    GYRO_T,
    PUSH_T,
    PUSH_X,
    PUSH_Y,
    STILL_FOR,
    PACE,
    OUTRUN_FOR,
    OUTRUN_MOST,
    DOUBT_UNTIL,
    REFERENCE_T,
    REFERENCE_IS_SCAN,
    SCAN_T,
) = range(STATES, STATES + 13)
MEMORY = STATES + 13
"""Length of a state. Its memory: time; stamp of the last turn rate read; last acceleration (its stamp, ahead, left);
for how long the wheels have stood still, and how fast their rims rolled of late, m/s; for how long the body has gone
faster than they roll, and by how much at most, m/s; until when they are not believed;
when the reference was taken, and whether that was with a scan; and the stamp of the last scan."""
EVENT = 12
ROW = EVENT + MEMORY + STATES * STATES

IMU, WHEELS, ODOMETRY, SCAN, POSITION = range(5)
"""Kinds of events, with their numbers from `FIRST` on:
turn rate, acceleration ahead, to the left; whether there are accelerations;
way since the reading before, ahead, left, turned; for how long; mean way of a rim; standard deviations of way and turn;
the same of an odometry that someone else keeps;
pose since the reference scan (3), covariance (6, lower triangle), and 1 if a new reference begins;
x, y, standard deviation."""
STAMP, KIND, FIRST = range(3)
GYRO, PUSHED_X, PUSHED_Y, HAS_PUSH = range(FIRST, FIRST + 4)
DURATION, ROLLED, WAY_SPREAD, TURN_SPREAD = range(FIRST + 3, FIRST + 7)
MATCH_COVARIANCE, MATCH_TURN_VARIANCE, NEW_REFERENCE = FIRST + 3, FIRST + 8, FIRST + 9
FIX_SPREAD = FIRST + 2
"""Where the numbers of an event stand, after its stamp and its kind: an IMU's, those of wheels and odometry besides the
way itself, a scan's besides the pose, and a fix's besides x and y."""

(
    SIDEWAYS,
    SPEED_CHANGE,
    TURN_RATE_CHANGE,
    GYRO_CHANGE,
    PUSH_NOISE,
    GYRO_NOISE,
    GYRO_SCALE,
    GYRO_WALK,
    PUSH_WALK,
    CREEP,
    CREEP_TURN,
    CREEP_TIME,
    STILL_TIME,
    STILL_SPREAD,
    DOUBT_TIME,
    IMU_X,
    IMU_Y,
    IMU_HEADING,
    PUSH_PERIOD,
    ANTENNA_X,
    ANTENNA_Y,
    SCANS_ALIKE,
    GATE,
    _GATE_2,
    _GATE_3,
) = range(25)
"""Where the parameters stand; the gates are those of readings of one, two and three parts."""
PARAMETERS = 25
