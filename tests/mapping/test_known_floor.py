import unittest

import numpy as np

from vinecompass.geometry import wrap_angle
from vinecompass.mapping.known_floor import adds_nothing, lies_on_known_floor


class KnownFloor(unittest.TestCase):
    def test_scans_add_nothing_where_six_from_nearby_looked_the_same_way(self):
        rng = np.random.default_rng(1)
        kept, poses = (rng.uniform([-2, -2, -np.pi], [2, 2, np.pi], (count, 3)) for count in (1200, 300))
        for pose, told in zip(poses, adds_nothing(poses, kept), strict=True):
            near = np.hypot(*(kept - pose)[:, :2].T) < 0.5
            alike = np.abs(wrap_angle(kept[:, 2] - pose[2])) < np.radians(20.0)
            self.assertEqual(bool(told), np.count_nonzero(near & alike) >= 6)
        self.assertTrue(0.1 < np.mean(adds_nothing(poses, kept)) < 0.9)

    def test_floor_is_known_once_it_was_driven_over_twice(self):
        apart, along = 0.25, np.arange(0.0, 8.0, 0.25)
        drive = np.column_stack([along, np.zeros_like(along), np.zeros_like(along)])
        # Beside it, the less counts the farther off, and nothing beyond a metre.
        for times, sideways, known in (
            (1, 0.0, False),
            (2, 0.0, True),
            (2, 0.9, False),
            (4, 0.9, True),
            (9, 1.2, False),
        ):
            with self.subTest(times=times, sideways=sideways):
                former = np.tile(drive + [0.0, sideways, np.pi], (times, 1))
                self.assertEqual(lies_on_known_floor(drive[6:-6], former, apart), known)


if __name__ == "__main__":
    unittest.main()
