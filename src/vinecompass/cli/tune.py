"""vinecompass tune: try settings in rehearsals, and say what to change."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from vinecompass.cli.common import (
    FiniteRange,
    Outcome,
    json_option,
    picture_option,
    progress_bar,
    say,
    seed_option,
    settings_option,
    tell,
)
from vinecompass.cli.outputs import FILE, OUT, Writing
from vinecompass.cli.tune_against import told_against
from vinecompass.cli.tune_cases import TuneOptions, case_of
from vinecompass.cli.tune_replay import replay_trial
from vinecompass.cli.tune_shown import run_tune_shown
from vinecompass.errors import InputError

if TYPE_CHECKING:
    from vinecompass.tuning import Case, Explanation, Study, StudyRun, Want

__all__ = ["tune"]


@click.command(cls=Writing, short_help="Try settings in rehearsals, and say what to change.")
@click.argument("site", metavar="[SITE|MAP]", type=FILE, required=False)
@click.option("--robot", type=FILE, help="The robot's file.")
@click.option("--map", "map_path", type=FILE, help="The map to drive by.")
@click.option("--to", "goal", help="Name of a stop, or x,y,heading_deg.")
@click.option("--round", "round_path", type=FILE, help="A round.toml.")
@click.option(
    "--vary",
    "varied",
    multiple=True,
    metavar="KEY[=LOW..HIGH]",
    help="A setting to vary, as costs.comfort=0.2..1.0; without a range, over all that makes sense. Repeat it.",
)
@click.option(
    "--against",
    type=FILE,
    metavar="SETTINGS",
    help="In place of --vary: another settings file, on the same seeds, until the answer stands or --trials are used.",
)
@click.option(
    "--design",
    type=click.Choice(["spread", "one-by-one", "grid", "search"]),
    default="spread",
    show_default=True,
    help="Values spread evenly over all settings together, one setting at a time, all combinations, or a search.",
)
@click.option(
    "--objective",
    "objectives",
    multiple=True,
    metavar="MEASURE",
    help="What a search goes by, and whose front is told; the cost if not given. Repeat it.",
)
@click.option(
    "--trials", type=click.IntRange(4, 1_000_000), default=64, show_default=True, help="Rehearsals to choose by."
)
@click.option(
    "--seeds",
    type=click.IntRange(1, 100_000),
    default=4,
    show_default=True,
    help="Seeds on which each set of values is tried.",
)
@click.option(
    "--want", "wants", multiple=True, metavar="'MEASURE >= NUMBER'", help="What every trial is to reach. Repeat it."
)
@click.option(
    "--replay",
    type=click.IntRange(0),
    metavar="TRIAL",
    help="With the call that made the study: drive this trial again, and make a page that plays it.",
)
@click.option("--workers", type=click.IntRange(1, 1024), help="Processes; one for each core if not given.")
@click.option("--cluster", metavar="ADDRESS", help="A Dask scheduler, as tcp://host:8786, to run the trials instead.")
@click.option("--time-limit", type=FiniteRange(1.0, 1e5), default=300.0, show_default=True, help="Seconds a trial.")
@click.option(
    "--run",
    "runs",
    type=FILE,
    multiple=True,
    metavar="RUN",
    help="A recorded run, localized on MAP or, without one, mapped, in place of rehearsals. Repeat it.",
)
@click.option(
    "--shown",
    type=FILE,
    multiple=True,
    metavar="RUN|CSV",
    help="A way to be taken on MAP, driven in a run or drawn as x, y: learn the floor's prices. Repeat it.",
)
@click.option(
    "-o",
    "--out",
    type=OUT,
    help="The folder of the study; one that was stopped goes on. With --shown, the settings file to write.",
)
@click.option("--list", "listed", is_flag=True, help="List all settings that can be tuned.")
@click.option("--explain", "explained", type=FILE, metavar="STUDY", help="Say again what a study shows.")
@settings_option
@seed_option
@picture_option
@json_option
def tune(as_json: bool, **given: Any) -> int:
    """Rehearse a round in SITE with many settings, on the same seeds, and say what to change and how sure that is.

    SITE may be a folder of sites, each a folder with a site.toml and a map.png: what is good in one only is not good.
    With --against, the settings of another file are compared with these.

    Every finished trial is kept in the study's folder: the same call goes on where it was stopped. The best settings
    are confirmed on seeds that did not choose them. With --run, the localizer's settings, or the mapper's, are tried on
    recorded runs; with MAP in place of SITE, the planner's, on plans between places drawn on it; with --shown, plans on
    MAP are brought to ways that a person showed. Exit status 1 if nothing better was found.
    """
    return tell(run_tune(TuneOptions(**given)), as_json)


def run_tune(given: TuneOptions) -> Outcome:
    """Do what the command does."""
    from vinecompass.tuning import Want, explain, read_study

    if given.listed:
        return _list()
    if given.shown:
        return run_tune_shown(
            given.site,
            given.shown,
            robot=given.robot,
            settings=given.settings,
            out=given.out,
            seed=given.seed,
            picture=given.picture,
        )
    wants = [Want.parse(text) for text in given.wants]
    if given.explained is not None:
        study, files = read_study(given.explained), {}
    else:
        case, study = _study(given)
        files = {"study": str(given.out)}
        if given.replay is not None:
            assert given.out is not None
            files["page"] = str(replay_trial(case, study, given.replay, given.out))
    if "against" in study.made_of:
        if given.picture is not None:
            from vinecompass.figures import draw_verdict, save_figure

            files["picture"] = str(save_figure(draw_verdict(study), given.picture))
        return told_against(study, files)
    explanation = explain(study, int(study.made_of["seeds"]))
    if given.explained is None and explanation.is_better:
        files["settings"] = _write_settings(given, explanation)
    if given.picture is not None:
        from vinecompass.figures import draw_study, save_figure

        files["picture"] = str(save_figure(draw_study(study, explanation), given.picture))
    return _told(explanation, study, wants, given.objectives, files)


def _list() -> Outcome:
    """Return all settings that can be tuned."""
    from vinecompass.settings import tunable_settings

    settings = tunable_settings()
    lines = []
    for one in settings:
        how = ", by factors" if one.span.logarithmic else ""
        lines += [
            f"{one.key} = {one.default:g} ({one.span.low:g} to {one.span.high:g}{how}): {one.meaning}",
            f"    more of it: {one.span.trades}; then `{one.again}` again",
        ]
    numbers = {
        one.key: {
            "meaning": one.meaning,
            "default": one.default,
            "low": one.span.low,
            "high": one.span.high,
            "by_factors": one.span.logarithmic,
            "trades": one.span.trades,
            "again": one.again,
        }
        for one in settings
    }
    return Outcome("tune", f"{len(settings)} settings can be tuned", quality=numbers, details=lines)


def _study(given: TuneOptions) -> tuple[Case, Study]:
    """Return what is tried, and the study of it, run or what was left of it."""
    from vinecompass.tuning import Vary, choose_settings, compare_settings

    varied = [Vary.parse(text) for text in given.varied]
    case, made_of = case_of(given)
    differs = _differing(given, case)
    try:
        with progress_bar() as progress, _study_run(given, case, made_of) as study_run:
            if given.against is not None:
                return case, compare_settings(study_run, differs, trials=given.trials, progress=progress)
            return case, choose_settings(
                study_run,
                varied,
                trials=given.trials,
                seeds=int(made_of["seeds"]),
                design=given.design,
                objectives=given.objectives or ("cost",),
                seed=given.seed,
                progress=progress,
            )
    except KeyboardInterrupt:
        say(f"vinecompass: {given.out}: finished trials are kept, and the same call goes on", err=True)
        raise


def _differing(given: TuneOptions, case: Case) -> dict[str, Any]:
    """Return what differs in the other settings file, seen to be worth a study before its folder is begun."""
    from vinecompass.settings import differing_values, read_settings
    from vinecompass.tuning import check_comparison

    if given.against is None:
        return {}
    other = read_settings(given.against)
    if other.docks != case.settings.docks:
        raise InputError("differ", file=given.against, key="dock", expected="the same docks in both settings")
    differs = differing_values(case.settings, other)
    check_comparison(case.settings, differs, given.trials)
    return differs


def _study_run(given: TuneOptions, case: Case, made_of: dict[str, str]) -> StudyRun:
    from vinecompass.tuning import StudyRun

    assert given.out is not None
    if given.cluster is not None and given.workers is not None:
        raise InputError("are those of this machine", key="--workers", value=given.workers, expected="no --cluster")
    return StudyRun(case, given.out, made_of=made_of, workers=given.workers, cluster=given.cluster)


def _write_settings(given: TuneOptions, explanation: Explanation) -> str:
    """Write the settings file to use: the one given, with the best values in it."""
    from vinecompass.files import atomic_write
    from vinecompass.settings import settings_text

    assert given.out is not None
    return str(atomic_write(given.out / "settings.toml", settings_text(explanation.best, given.settings)))


def _wanted(study: Study, wants: list[Want]) -> list[str]:
    """Return which values do what is wanted, in words."""
    from vinecompass.tuning import answer_wants, passed_places

    answer = answer_wants(study, wants)
    said = [f"{want}: with {count} of {len(study.tried())}" for want, count in zip(wants, answer.alone, strict=True)]
    if any(want.place and not count for want, count in zip(wants, answer.alone, strict=True)):
        passed = sorted({name for values in study.tried() for each in passed_places(study, values) for name in each})
        said.append(f"passed were: {', '.join(passed) or 'none of the places'}")
    said += [f"{first} and {second} exclude each other in what was tried" for first, second in answer.exclude]
    if answer.all_met:
        said.append(f"all of it, cheapest first: {'; or '.join(_written(values) for values in answer.all_met[:3])}")
    else:
        said.append("none of what was tried does all of it")
    return said


def _written(values: dict[str, float]) -> str:
    return ", ".join(f"{key} = {value:g}" for key, value in sorted(values.items())) or "the settings as they are"


def _fronted(study: Study, objectives: tuple[str, ...], seeds: int) -> list[tuple[dict[str, float], dict[str, float]]]:
    """Return the sets of values on the front of the objectives, and what each comes to in them."""
    import numpy as np

    from vinecompass.tuning import check_objectives, front

    check_objectives(list(study.measures), objectives)
    chosen_on = study.on_seeds(0, seeds)
    return [
        (values, {name: float(np.mean(list(chosen_on.of(values, name).values()))) for name in objectives})
        for values in front(chosen_on, objectives)
    ]


def _told(
    explanation: Explanation, study: Study, wants: list[Want], objectives: tuple[str, ...], files: dict[str, str]
) -> Outcome:
    """Return what a study says."""
    changed = _written(explanation.best)
    line = explanation.verdict
    if explanation.best and explanation.differs:
        line = f"better with {changed}" if explanation.is_better else f"{line}; the best seems {changed}"
    details = [f"{explanation.tried} sets of values on {explanation.seeds} seeds, {len(study.trials)} trials in all"]
    if explanation.changes:
        details.append("what changes with it, on seeds that did not choose it (mean, 95 % interval):")
        details += [f"  {study.measures[measure]}: {one}" for measure, one in explanation.changes.items()]
    if explanation.in_sites:
        details.append("the cost with it in each site:")
        details += [f"  {name}: {one}" for name, one in explanation.in_sites.items()]
    if explanation.effects:
        details.append("how the cost goes with each setting (rank correlation; the best quarter of what was tried):")
        details += [
            f"  {one.key}: {one.rank_correlation:+.2f}{'' if one.chance < 0.05 else ', may be chance'}; "
            f"{one.best[0]:g} to {one.best[1]:g}"
            for one in explanation.effects
        ]
    fronted = _fronted(study, objectives, explanation.seeds) if objectives else []
    if fronted:
        named = " and ".join(objectives)
        details.append(f"the front of {named}: nothing tried is better in one and no worse in the rest:")
        for values, means in fronted:
            told = ", ".join(f"{study.measures.get(name, name)} {value:.3g}" for name, value in means.items())
            details.append(f"  {_written(values)}: {told}")
    if wants:
        details.append("what is wanted, in every trial:")
        details += [f"  {said}" for said in _wanted(study, wants)]
    quality = {
        "better": explanation.is_better,
        "best": explanation.best,
        "sets_of_values": explanation.tried,
        "trials": len(study.trials),
        "changes": {
            measure: {"mean": one.difference, "low": one.low, "high": one.high, "told": one.is_told}
            for measure, one in explanation.changes.items()
        },
        "sites": {name: {"mean": one.difference, "told": one.is_told} for name, one in explanation.in_sites.items()},
        "front": [{"values": values, **means} for values, means in fronted],
        "rank_correlations": {one.key: one.rank_correlation for one in explanation.effects},
    }
    step = {"mission": "drive", "localization": "locate", "mapping": "map", "plan": "plan"}[study.kind]
    hint = f"vinecompass {step} ... --settings {files['settings']}" if "settings" in files else ""
    return Outcome("tune", line, quality=quality, files=files, hint=hint, done=explanation.is_better, details=details)
