"""A study: trials on all cores, kept on disk as they come, so that what was interrupted goes on."""

from __future__ import annotations

import json
from collections.abc import Callable, Container, Sequence
from dataclasses import asdict, dataclass, fields
from pathlib import Path
from typing import Any

import tomlkit
from pydantic import TypeAdapter

from vinecompass.door import checked
from vinecompass.errors import InputError, VineCompassError
from vinecompass.files import Model, atomic_write, check_replaceable, read_model
from vinecompass.runs.tables import read_table, table_bytes
from vinecompass.settings import Settings, differing_values, find_setting
from vinecompass.tuning.designs import Values, unlike
from vinecompass.tuning.mission_score import MissionScore
from vinecompass.tuning.plan_case import PlanScore
from vinecompass.tuning.recorded_cases import LocalizationScore, MappingScore
from vinecompass.tuning.score import Score
from vinecompass.tuning.trial import Case, Kind, Trial
from vinecompass.tuning.workers import Cluster, Processes, Workers, WorkersDiedError

__all__ = ["STUDY_MARKER", "Study", "StudyRun", "read_study"]

STUDY_MARKER = "study.toml"
"""The file by which a folder is known to hold a study."""
TABLE, CLOCKED_TABLE = "trials.parquet", "computing.parquet"
SCORES: dict[Kind, type[Score]] = {
    "mission": MissionScore,
    "localization": LocalizationScore,
    "mapping": MappingScore,
    "plan": PlanScore,
}
"""What its trials are judged by."""
MOST_BREAKS = 3
"""Times in a row that workers may die without finishing a trial before the study is given up."""


class StudyRecord(Model):
    """What a study was made of: ``study.toml``."""

    kind: Kind
    made_of: dict[str, str]
    bound: float


@dataclass(frozen=True)
class Study:
    """Trials and what came of them, in the order of their numbers.

    Parameters
    ----------
    kind : {"mission", "localization", "mapping", "plan"}
    made_of : dict of str to str
        What was tried: names, digests and options, by their names.
    trials : list of Trial
    scores : list of Score
    """

    kind: Kind
    made_of: dict[str, str]
    trials: list[Trial]
    scores: list[Score]

    def __repr__(self) -> str:
        """Return it in one line."""
        return f"<Study of {len(self.trials)} {self.kind} trials with {len(self.tried())} sets of values>"

    @property
    def measures(self) -> dict[str, str]:
        """What its trials are judged by: names, and what each is, with its unit."""
        return SCORES[self.kind].MEASURES

    @property
    def clocked(self) -> tuple[str, ...]:
        """Those of them that a clock told, and that are never the same again."""
        return SCORES[self.kind].CLOCKED

    @property
    def cost_unit(self) -> str:
        """What the cost is told in."""
        return self.measures["cost"].removeprefix("cost, ")

    @property
    def sites(self) -> list[str]:
        """The names of the sites in which the seeds are driven in turn; one without a name, if there is but one."""
        return json.loads(self.made_of["sites"]) if "sites" in self.made_of else [""]

    def as_it_is(self, key: str) -> float:
        """Return the value of a setting in those as they are."""
        changed = json.loads(self.made_of.get("changed", "{}"))
        return float(changed.get(key, find_setting(key).default))

    def by_site(self, of_seeds: dict[int, float]) -> list[dict[int, float]]:
        """Return what is told by seed apart for each site."""
        count = len(self.sites)
        return [{seed: value for seed, value in of_seeds.items() if seed % count == site} for site in range(count)]

    def tried(self) -> list[Values]:
        """Return the sets of values, each once, in the order in which they were tried first."""
        return unlike([trial.values for trial in self.trials])

    def tried_on_all_seeds(self) -> list[Values]:
        """Return the sets of values that were tried on as many seeds as any: those that were not stopped early."""
        counts = [len(self.of(values)) for values in self.tried()]
        return [values for values, count in zip(self.tried(), counts, strict=True) if count == max(counts)]

    def on_seeds(self, first: int, last: int) -> Study:
        """Return the trials on seeds from `first` up to, but not, `last`."""
        return self._on(range(first, last))

    def on_shared_seeds(self) -> Study:
        """Return the trials on those seeds on which every set of values was tried; all of them if there is none.

        Seeds are not equally hard: means over other seeds are not to be compared.
        """
        seeds = [set(self.of(values)) for values in self.tried()]
        shared = set.intersection(*seeds) if seeds else set()
        return self._on(shared) if shared else self

    def _on(self, seeds: Container[int]) -> Study:
        kept = [i for i, trial in enumerate(self.trials) if trial.seed in seeds]
        return Study(self.kind, self.made_of, [self.trials[i] for i in kept], [self.scores[i] for i in kept])

    def of(self, values: Values, measure: str = "cost") -> dict[int, float]:
        """Return a measure of the score with a set of values, by seed."""
        return {
            trial.seed: float(getattr(result, measure))
            for trial, result in zip(self.trials, self.scores, strict=True)
            if trial.values == values
        }


class StudyRun:
    """Runs trials on all cores, with workers that are handed what the trials share once; a context manager.

    Each trial is written when it is finished: if the study is stopped, or a worker dies, nothing finished is lost, and
    the same calls go on. The table that is written is the same to the byte whatever the number of workers.

    Parameters
    ----------
    case : Case
    folder : str or Path
        New, empty, or one that holds a study made of the same.
    made_of : dict of str to str
        What tells this study from others: digests of its inputs, and its options.
    workers : int, optional
        Processes; by default one for each core.
    cluster : str, optional
        Address of a Dask scheduler, whose workers run the trials in place of processes here.

    Raises
    ------
    InputError
        The folder holds something else, or a study made of something else; no way leads to a stop of the round; or the
        cluster does not answer.
    """

    @checked
    def __init__(
        self,
        case: Case,
        folder: str | Path,
        *,
        made_of: dict[str, str],
        workers: int | None = None,
        cluster: str | None = None,
    ) -> None:
        self.folder = Path(folder)
        check_replaceable(self.folder, marker=STUDY_MARKER)
        changed = differing_values(Settings(), case.settings)
        self.case, self.made_of = case, made_of | ({"changed": json.dumps(changed, sort_keys=True)} if changed else {})
        self._bound = _begun(self.folder, case, self.made_of)
        self._workers: Workers = (
            Processes(case, self._bound, workers) if cluster is None else Cluster(case, self._bound, cluster)
        )
        self._done = _parts(self.folder, case.kind)

    def __enter__(self) -> StudyRun:
        return self

    def __exit__(self, *_: object) -> None:
        self._workers.end()

    def run(self, trials: Sequence[Trial], progress: Callable[[float, str], None] | None = None) -> Study:
        """Run those of the trials that are not finished yet, and return the study of these trials, no others.

        Raises
        ------
        InputError
            The folder holds another trial under the number of one of these.
        VineCompassError
            The workers die again and again.
        """
        breaks = 0
        self._check_same(trials)
        while left := [trial for trial in trials if trial.number not in self._done]:
            before = len(self._done)
            try:
                for trial, score in self._workers.scores(left):
                    row = _row(trial, score)
                    atomic_write(_part(self.folder, trial.number), table_bytes(_columns([row]), "parquet"))
                    self._done[trial.number] = row
                    if progress:
                        progress(len(self._done) / len(trials), f"{len(self._done)} of {len(trials)} trials")
            except WorkersDiedError as error:
                breaks = breaks + 1 if len(self._done) == before else 0
                if breaks >= MOST_BREAKS:
                    raise VineCompassError(f"{self.folder}: {error}") from None
        rows = [self._done[trial.number] for trial in trials]
        study, columns = _study_of(self.case.kind, self.made_of, rows), _columns(rows)
        told = {name: column for name, column in columns.items() if name not in study.clocked}
        atomic_write(self.folder / TABLE, table_bytes(told, "parquet"))
        if study.clocked and rows:
            timed = {name: columns[name] for name in ("number", *study.clocked)}
            atomic_write(self.folder / CLOCKED_TABLE, table_bytes(timed, "parquet"))
        return study

    def _check_same(self, trials: Sequence[Trial]) -> None:
        """Raise `InputError` unless the finished trials are of the same values and seeds as those asked for."""
        for trial in trials:
            row, values = self._done.get(trial.number), _values_text(trial)
            if row is not None and (row["seed"], row["values"]) != (trial.seed, values):
                raise InputError(
                    "holds a trial of another study",
                    file=_part(self.folder, trial.number),
                    key="trial",
                    value=f"seed {row['seed']}, {row['values']}",
                    expected=f"seed {trial.seed}, {values}, or another folder",
                )


@checked
def read_study(folder: str | Path) -> Study:
    """Read the trials of a study that are finished.

    Raises
    ------
    InputError
        The folder holds no study, or a damaged one.
    """
    folder = Path(folder)
    if not (folder / STUDY_MARKER).is_file():
        raise InputError("holds no study", file=folder, expected=f"a folder with a {STUDY_MARKER}, as `tune` writes it")
    record = read_model(folder / STUDY_MARKER, StudyRecord, kind="study")
    return _study_of(record.kind, record.made_of, [row for _, row in sorted(_parts(folder, record.kind).items())])


def _study_of(kind: Kind, made_of: dict[str, str], rows: list[dict[str, Any]]) -> Study:
    trials = [Trial(row["number"], row["seed"], json.loads(row["values"])) for row in rows]
    names = [field.name for field in fields(SCORES[kind])]
    return Study(kind, made_of, trials, [SCORES[kind](**{name: row[name] for name in names}) for row in rows])


def _begun(folder: Path, case: Case, made_of: dict[str, str]) -> float:
    """Return the bound of the round; begin the study's folder, or see that it holds this one."""
    marker = folder / STUDY_MARKER
    if marker.exists():
        record = read_model(marker, StudyRecord, kind="study")
        for name in sorted({*record.made_of, *made_of}):
            was, now = record.made_of.get(name), made_of.get(name)
            if was != now:
                raise InputError(
                    "holds a study made otherwise",
                    file=folder,
                    key=name,
                    value=was,
                    expected=f"{now}, or another folder",
                )
        return record.bound
    bound = case.bound()
    document: dict[str, Any] = {"format": "vinecompass study", "version": 1, "kind": case.kind}
    document |= {"bound": bound, "made_of": made_of}
    atomic_write(marker, tomlkit.dumps(document))
    return bound


def _part(folder: Path, number: int) -> Path:
    return folder / "parts" / f"{number:06d}.parquet"


def _parts(folder: Path, kind: Kind) -> dict[int, dict[str, Any]]:
    """Return the rows of the finished trials by their numbers."""
    found: dict[int, dict[str, Any]] = {}
    of_trials, of_scores = TypeAdapter(Trial), TypeAdapter(SCORES[kind])
    for path in sorted((folder / "parts").glob("*.parquet")):
        rows = read_table(path).to_pylist()
        try:
            study = _study_of(kind, {}, rows)
            for trial, score in zip(study.trials, study.scores, strict=True):
                of_trials.validate_python(asdict(trial))
                of_scores.validate_python(asdict(score))
        except (KeyError, TypeError, ValueError):
            expected = "a finished trial, as `tune` writes it; without the file it is run again"
            raise InputError("is damaged", file=path, expected=expected) from None
        found.update(zip((trial.number for trial in study.trials), rows, strict=True))
    return found


def _row(trial: Trial, result: Score) -> dict[str, Any]:
    return {"number": trial.number, "seed": trial.seed, "values": _values_text(trial), **asdict(result)}


def _values_text(trial: Trial) -> str:
    """Return the values of a trial as its row has them: the same text for the same values."""
    return json.dumps(trial.values, sort_keys=True)


def _columns(rows: list[dict[str, Any]]) -> dict[str, list[Any]]:
    return {name: [row[name] for row in rows] for name in rows[0]} if rows else {}
