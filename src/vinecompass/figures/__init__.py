"""Figures: sheets that `save_figure` writes as PNG, and what is drawn on axes of one's own.

`draw`, `draw_grid`, `draw_prices`, `draw_narrow_places`, `draw_robot`, `draw_truth` and `draw_scale_bar` draw on the
axes `ax`. All others make a sheet: a Matplotlib figure of its own, or, given `ax`, a part of its figure in the place of
these axes, as large as they are. Both have axes that may be drawn on further.
"""

from vinecompass.figures.canvas import draw_grid, draw_robot, draw_scale_bar, draw_truth, save_figure
from vinecompass.figures.cost_figure import draw_costs, draw_narrow_places, draw_prices
from vinecompass.figures.drive_figure import draw_drive
from vinecompass.figures.edit_figure import draw_edits
from vinecompass.figures.fusion_figure import draw_fusion
from vinecompass.figures.health_figure import draw_health
from vinecompass.figures.judge_figure import draw_comparison, draw_quality
from vinecompass.figures.layer_figure import draw_cost_change, draw_layers, draw_profile
from vinecompass.figures.local_plan_figure import draw_local_plan
from vinecompass.figures.localization_figure import draw_localization
from vinecompass.figures.localization_film import LocalizationFilm
from vinecompass.figures.map_figure import draw_map, draw_mapping
from vinecompass.figures.map_film import MapFilm
from vinecompass.figures.notebook import draw, drawn_for_notebook, html_for_notebook
from vinecompass.figures.people_figure import draw_meetings
from vinecompass.figures.plan_figure import draw_plan, draw_plan_comparison
from vinecompass.figures.run_figure import draw_run
from vinecompass.figures.shown_figure import draw_shown
from vinecompass.figures.study_figure import draw_study
from vinecompass.figures.verdict_figure import draw_verdict

__all__ = [
    "LocalizationFilm",
    "MapFilm",
    "draw",
    "draw_comparison",
    "draw_cost_change",
    "draw_costs",
    "draw_drive",
    "draw_edits",
    "draw_fusion",
    "draw_grid",
    "draw_health",
    "draw_layers",
    "draw_local_plan",
    "draw_localization",
    "draw_map",
    "draw_mapping",
    "draw_meetings",
    "draw_narrow_places",
    "draw_plan",
    "draw_plan_comparison",
    "draw_prices",
    "draw_profile",
    "draw_quality",
    "draw_robot",
    "draw_run",
    "draw_scale_bar",
    "draw_shown",
    "draw_study",
    "draw_truth",
    "draw_verdict",
    "drawn_for_notebook",
    "html_for_notebook",
    "save_figure",
]
