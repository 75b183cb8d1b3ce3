import unittest

import numpy as np
from matplotlib.colors import to_rgb
from PIL import Image

from tests.support import assert_input_error, loop_run, new_folder, room, short_mapping, short_run
from vinecompass import build_map, localize
from vinecompass.figures import LocalizationFilm, MapFilm
from vinecompass.figures.canvas import OLIVE, RUST, SAND, SLATE, strongest
from vinecompass.odometry import odometry_track


class Film(unittest.TestCase):
    def test_frames_grow_in_one_place_and_a_closed_loop_has_a_border(self):
        run, film = loop_run(), MapFilm(every=3.0)
        mapping = build_map(run, odometry=odometry_track(run), watch=film)
        film.add(mapping.mapper)
        path = film.save(new_folder() / "film.gif")
        rust, sand = (np.round(255.0 * np.array(to_rgb(colour))) for colour in (RUST, SAND))
        known, borders = [], 0
        with Image.open(path) as pictures:
            self.assertGreater(pictures.n_frames, 12)
            for number in range(pictures.n_frames):
                pictures.seek(number)
                frame = np.asarray(pictures.convert("RGB"))
                self.assertEqual(frame.shape, (*pictures.size[::-1], 3))
                known.append(np.mean(np.any(np.abs(frame - sand) > 6.0, axis=-1)))
                borders += bool(np.all(np.abs(frame[0] - rust) < 3.0))
        self.assertTrue(known[0] < known[4] < known[-1], known)
        self.assertGreater(borders, 0)
        self.assertLess(borders, len(known) // 2)

    def test_no_frame_or_another_suffix_is_refused(self):
        assert_input_error(self, lambda: MapFilm(every=1.0).save("film.gif"), "nothing was seen")
        assert_input_error(self, lambda: MapFilm(every=1.0).save("film.avi"), ".gif")


class LocalizationFilms(unittest.TestCase):
    def test_frames_show_cloud_scan_and_state_and_a_change_has_its_own(self):
        film = LocalizationFilm(short_mapping().grid, every=2.0)
        found = localize(short_mapping().grid, short_run(), short_run().start + [0.3, 0.0, np.pi], seed=1, watch=film)
        path = film.save(new_folder() / "film.gif")
        seconds = short_run().scans.t[-1]
        with Image.open(path) as pictures:
            self.assertGreaterEqual(pictures.n_frames, seconds // 2.0)
            self.assertLessEqual(pictures.n_frames, seconds / 2.0 + len(found.changes) + 1)
            frame = np.asarray(pictures.convert("RGB")).astype(int)
        for colour in (OLIVE, SLATE, RUST):
            wanted = np.round(255.0 * np.array(to_rgb(colour)))
            self.assertGreater(np.count_nonzero(np.abs(frame - wanted).max(axis=-1) < 3), 3, colour)
        assert_input_error(self, lambda: LocalizationFilm(room(), every=1.0).save("film.gif"), "nothing was seen")


class Shrinking(unittest.TestCase):
    def test_thin_walls_survive(self):
        readings = np.ones((7, 10), np.uint8)
        readings[:, 5] = 2
        self.assertEqual(strongest(readings, 3)[:2].tolist(), [[1, 2, 1, 1]] * 2)
        np.testing.assert_array_equal(strongest(readings, 1), readings)


if __name__ == "__main__":
    unittest.main()
