import unittest

import numpy as np
from benchmarks.doors import what_is_wrong

from tests.support import robot, room
from vinecompass import Grid, Zone, find_narrow_places, price_floor


class NarrowPlaces(unittest.TestCase):
    def test_doors_that_shapely_made_are_found_measured_and_judged_and_none_is_invented(self):
        # Two doors half a metre apart, one beside an opening, one to a closet, halls in a row; acute corners.
        for seed in range(9):
            with self.subTest(seed=seed):
                self.assertEqual(what_is_wrong(seed), [])

    def test_what_decides_is_told_by_the_centimetre(self):
        grid, told = room(8.0, 6.0), []
        grid.log_odds[:, 80:84] = 3.0
        for width in (10, 12, 15):
            grid.log_odds[60 - width // 2 : 60 - width // 2 + width, 80:84] = -3.0
            (place,) = find_narrow_places(price_floor(grid, robot()), robot())
            self.assertAlmostEqual(place.width, 0.05 * width, delta=0.005)
            self.assertEqual((place.passes, place.closed_by), (width > 12, ("map",)))
            told.append(place.decides)
        self.assertIn("12 cm too wide", told[0])
        self.assertIn("comfort", told[2])

    def test_aisles_have_a_length_and_what_closes_their_sides_is_named(self):
        grid = room(10.0, 8.0)
        grid.log_odds[40:120, 40:90] = 3.0
        grid.log_odds[40:120, 108:160] = 3.0
        aisle = [
            place for place in find_narrow_places(price_floor(grid, robot()), robot()) if abs(place.x - 4.95) < 0.2
        ]
        self.assertEqual(len(aisle), 1)
        self.assertAlmostEqual(aisle[0].width, 0.9, delta=0.026)
        self.assertAlmostEqual(aisle[0].length, 4.0, delta=0.5)
        grid.log_odds[40:120, 108:160] = -3.0
        shut = Zone(name="rack", kind="closed", polygon=[(5.1, 2.0), (8.0, 2.0), (8.0, 6.0), (5.1, 6.0)])
        zoned = find_narrow_places(price_floor(grid, robot(), zones=[shut]), robot())
        self.assertEqual({name for place in zoned for name in place.closed_by}, {"map", "zones"})
        grid.log_odds[40:120, 101:160] = 0.0
        unknown = [place for place in find_narrow_places(price_floor(grid, robot()), robot()) if not place.passes]
        self.assertIn("costs.unknown", unknown[0].decides)

    def test_an_empty_room_has_none(self):
        self.assertEqual(find_narrow_places(price_floor(room(), robot()), robot()), [])
        self.assertEqual(
            find_narrow_places(price_floor(Grid(np.full((80, 80), -3.0, np.float32), 0.05), robot()), robot()), []
        )


if __name__ == "__main__":
    unittest.main()
