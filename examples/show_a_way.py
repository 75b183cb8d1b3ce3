"""Show a robot its ways, and learn the floor's prices from them. Run ``python examples/show_a_way.py shown.png``."""

import sys

import numpy as np

from vinecompass import ShownWay, demo_file, grid_from_polygons, learn_prices, price_floor, read_robot
from vinecompass.figures import draw_shown, save_figure
from vinecompass.tuning import unexplained_places

# A hall with barrels. Who drove here kept well off them, and once went round by the south wall.
barrels = [[(x, y), (x + 0.8, y), (x + 0.8, y + 0.8), (x, y + 0.8)] for x, y in ((4, 3), (8, 5), (12, 3), (8, 1.2))]
grid = grid_from_polygons([(0, 0), (16, 0), (16, 9), (0, 9)], barrels, 0.05)
robot = read_robot(demo_file("robot.toml"))
shown = {
    "east": [(1.0, 4.5), (4.4, 5.7), (8.4, 7.4), (12.4, 5.7), (15.0, 5.0)],
    "west": [(15.0, 7.0), (12.0, 7.3), (8.4, 7.4), (4.4, 6.0), (1.0, 6.0)],
    "by the south": [(1.0, 4.5), (2.2, 1.3), (6.0, 1.0), (6.5, 3.2), (9.8, 3.2), (10.5, 1.5), (15.0, 1.5)],
}
ways = [ShownWay.through(name, np.array(points)) for name, points in shown.items()]

found = learn_prices(grid, robot, ways)
print(f"contact_price = {found.settings.contact_price:g}, comfort = {found.settings.comfort:g}, {found.settings.fall}")
for each in found.ways:
    print(f"{each.way.name}: plans {each.apart_before:.2f} m off it before, {each.apart_after:.2f} m after")
places = unexplained_places(grid, robot, found)
for place in places:
    told = f"a dear zone does, x {place.zone.factor:g}" if place.zone else "nor does a zone"
    print(f"{place.way}: no price explains {place.place.round(1).tolist()}, {place.off:.1f} m off; {told}")

picture = sys.argv[1] if len(sys.argv) > 1 else "shown.png"
save_figure(
    draw_shown(price_floor(grid, robot), price_floor(grid, robot, settings=found.settings), found, places), picture
)
