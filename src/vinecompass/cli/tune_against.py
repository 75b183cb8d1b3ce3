"""vinecompass tune --against: what comes of another settings file, in words and numbers."""

from __future__ import annotations

from typing import TYPE_CHECKING

from vinecompass.cli.common import Outcome

if TYPE_CHECKING:
    from vinecompass.tuning import Study

__all__ = ["told_against"]


def told_against(study: Study, files: dict[str, str]) -> Outcome:
    """Return what a comparison of two settings files says; done if the other one is better."""
    from vinecompass.tuning import verdict

    found = verdict(study, int(study.made_of["trials"]))
    other = study.made_of["against"].split(" ")[0]
    line = {
        "better": f"{other} is better",
        "worse": f"{other} is worse",
        "alike": f"{other} does as well as the settings as they are, to a hundredth of the cost",
        "open": f"no difference between {other} and the settings as they are can be told from chance",
    }[found.word]
    details = [f"{found.changes['cost'].pairs} seeds, each with both, of {int(study.made_of['trials']) // 2} at most"]
    details += [f"what differs: {key} = {value}" for key, value in found.values.items()]
    details.append("what changes with it (mean, interval that may be looked at again and again):")
    details += [
        f"  {study.measures.get(name, name)}: {found.before[name]:.3g} {one}" for name, one in found.changes.items()
    ]
    quality = {
        "word": found.word,
        "differs": found.values,
        "seeds": found.changes["cost"].pairs,
        "changes": {
            name: {"before": found.before[name], "mean": one.difference, "low": one.low, "high": one.high}
            for name, one in found.changes.items()
        },
    }
    return Outcome("tune", line, quality=quality, files=files, done=found.word == "better", details=details)
