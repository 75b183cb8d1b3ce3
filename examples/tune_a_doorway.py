"""Tune a doorway: two settings at a time, on a heat map. Run ``python examples/tune_a_doorway.py doorway.png``."""

import sys
from pathlib import Path
from tempfile import TemporaryDirectory

from vinecompass import MissionCase, Settings, Site, StudyRun, demo_file, grid_from_polygons, read_robot
from vinecompass.figures import draw_study, save_figure
from vinecompass.navigation import Round
from vinecompass.tuning import Vary, choose_settings, explain

# Two rooms with a doorway of 0.9 m between them; the body is 0.62 m wide.
ROOMS = [(0.0, 0.0), (6.0, 0.0), (6.0, 4.0), (0.0, 4.0)]
JAMBS = [[(2.9, 0.0), (3.1, 0.0), (3.1, 1.5), (2.9, 1.5)], [(2.9, 2.4), (3.1, 2.4), (3.1, 4.0), (2.9, 4.0)]]


def main(picture: str) -> None:
    """Drive through the doorway with some values of two settings, and draw what each pair costs."""
    site = Site.model_validate(
        {
            "name": "doorway",
            "start": (1.2, 1.6, 0.0),
            "wall": [{"points": [*ROOMS, ROOMS[0]]}],
            "solid": [{"polygon": jamb} for jamb in JAMBS],
            "floor": [{"name": "doorway", "polygon": [(2.8, 1.5), (3.2, 1.5), (3.2, 2.4), (2.8, 2.4)], "grip": 1.0}],
        }
    )
    grid = grid_from_polygons(ROOMS, JAMBS, cell_size=0.05)
    robot = read_robot(demo_file("robot.toml"))
    case = MissionCase(site, robot, grid, Round.to_pose([4.8, 2.2, 0.0]), Settings(), time_limit=20.0)
    varied = [Vary.parse("costs.comfort=0.1..1.2"), Vary.parse("following.tight_speed=0.1..0.6")]
    with TemporaryDirectory() as folder, StudyRun(case, Path(folder) / "study", made_of={}) as study_run:
        study = choose_settings(study_run, varied, trials=10, seeds=1, design="grid")
    answer = explain(study, 1)
    best = ", ".join(f"{key} = {value:g}" for key, value in answer.best.items()) or "as they are"
    print(f"{len(study.tried())} pairs tried; the best seems {best}; cost {answer.changes.get('cost', 'the same')}")
    save_figure(draw_study(study, answer), picture)


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "doorway.png")
