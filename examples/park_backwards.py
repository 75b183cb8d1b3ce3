"""Park a cart that turns slowly, with the time-optimal band: ``python examples/park_backwards.py parking.png``.

The stop lies beside the cart. A cart that turns quickly turns on the spot; this one backs up in a V, which is quicker.
"""

import sys

import numpy as np

from vinecompass import Command, Robot, TimeBand, demo_file, read_robot
from vinecompass.figures.canvas import CHARCOAL, SAFFRON, draw_robot, new_sheet, save_figure
from vinecompass.geometry import arc, compose


def cart(top_turn_rate: float) -> Robot:
    """Return the demo's cart, turning as quickly as that, rad/s, and backing at 0.3 m/s."""
    document = read_robot(demo_file("robot.toml")).model_dump(exclude_none=True)
    document["drive"] |= {"top_turn_rate": top_turn_rate, "reverse_speed": 0.3}
    return Robot.model_validate(document)


figure, axes = new_sheet("Parking 1.2 m to the left: turning slowly, the cart backs up in a V")
for column, top_turn_rate in enumerate((1.4, 0.2)):
    robot, start = cart(top_turn_rate), np.array([3.0 * column, 0.0, 0.0])
    planner, pose, command, track, reverse = TimeBand(robot), start, Command(), [start], 0.0
    planner.follow([start, start + [0.0, 1.2, 0.0]])
    while planner.phase != "arrived" and len(track) < 600:
        command = planner.step(pose, command, 0.1).command
        pose = compose(pose, arc(command.velocity, 0.1))
        reverse += 0.1 * max(-command.speed, 0.0)
        track.append(pose)
    off = 1000.0 * np.hypot(*(pose - start - [0.0, 1.2, 0.0])[:2])
    print(f"{top_turn_rate} rad/s: {0.1 * len(track):.1f} s, {reverse:.1f} m in reverse, ends {off:.0f} mm off")
    way = np.array(track)
    axes.plot(way[:, 0], way[:, 1], color=SAFFRON, linewidth=2.5, zorder=5)
    drawn = way[0]
    for each in way:
        if np.hypot(*(each - drawn)[:2]) > 0.35 or abs(each[2] - drawn[2]) > 0.7 or each is way[-1]:
            draw_robot(axes, robot, each)
            drawn = each
    axes.text(start[0], -0.9, f"{top_turn_rate} rad/s: {0.1 * len(track):.1f} s", ha="center", color=CHARCOAL)
axes.autoscale_view()

save_figure(figure, sys.argv[1] if len(sys.argv) > 1 else "parking.png")
