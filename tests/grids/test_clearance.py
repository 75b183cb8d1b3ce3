import unittest

import numpy as np
from scipy import ndimage

from tests.support import assert_input_error
from vinecompass import clearance
from vinecompass.grids import likelihood_field


class ClearanceAgainstScipy(unittest.TestCase):
    def test_the_same_distances(self):
        rng = np.random.default_rng(5)
        cases = {shape: rng.random(shape) < 0.02 for shape in ((1, 40), (40, 1), (83, 131), (200, 7))}
        for shape, occupied in cases.items():
            with self.subTest(shape=shape):
                occupied[0, 0] = True
                wanted = ndimage.distance_transform_edt(~occupied) * 0.05
                np.testing.assert_allclose(clearance(occupied, 0.05), wanted, rtol=1e-6)

    def test_without_anything_occupied_it_is_infinite_everywhere(self):
        self.assertTrue(np.all(np.isinf(clearance(np.zeros((4, 5), bool), 0.05))))
        assert_input_error(self, lambda: clearance(np.zeros(4, bool), 0.05), "occupied", "(rows, columns)")

    def test_the_likelihood_field_is_a_gaussian_of_it(self):
        occupied = np.random.default_rng(6).random((60, 50)) < 0.01
        distance = ndimage.distance_transform_edt(~occupied) * 0.1
        wanted = np.exp(-0.5 * (distance / 0.2) ** 2)
        np.testing.assert_allclose(likelihood_field(occupied, 0.1, 0.2), wanted, atol=1e-6)


if __name__ == "__main__":
    unittest.main()
