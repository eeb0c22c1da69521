"""What ``ferocal lookup --json`` prints."""

from __future__ import annotations

from typing import Any

from ferocal.documents.objects.base import Object, key
from ferocal.documents.objects.runs import RunObject


def _of(name: str) -> Any:
    """An attribute of the effect, or of the cell, that matched."""

    def get(match: Any) -> Any:
        item = match.effect or match.cell
        for part in name.split("."):
            item = getattr(item, part, None)
        return item

    return get


class MatchObject(Object):
    """A number of an answer, with the runs behind it."""

    bench: str = key("on which bench", _of("bench"))
    workload: str = key("what was run", _of("series.workload"))
    metric: str = key("what was read", _of("series.metric"))
    unit: str = key("its unit", _of("series.unit"))
    configuration: str = key("under which configuration", _of("configuration"))
    baseline: str | None = key("with what it is compared; null: a centre", _of("baseline"))
    change: float | None = key("the change, a share or in the unit", _of("change"))
    verdict: str | None = key("what is said of the change", _of("verdict"))
    centre: float | None = key("what was read, in the unit", _of("centre"))
    run_list: list[RunObject] = key("the runs of the configuration", "runs")
    base_run_list: list[RunObject] = key("the runs that it is compared with", "base_runs")


class FoundEffectObject(Object):
    """An effect that a run is part of."""

    workload: str = key("what was run", "series.workload")
    metric: str = key("what was read", "series.metric")
    configuration: str = key("the configuration that is compared")
    baseline: str = key("with what")
    change: float | None = key("the change, a share or in the unit")
    verdict: str = key("what is said of it")


class LookupObject(Object):
    """`ferocal lookup --json`."""

    question: str = key("the question of the study")
    text: str = key("what was looked up")
    matches: list[MatchObject] = key("numbers of answers that are printed so")
    found_run: RunObject | None = key("the run that it is, if it is one", "run")
    part_of_effects: list[FoundEffectObject] = key("effects that the run is part of", "effects")
    import_id: str | None = key(
        "the session that brought the run", lambda lookup: getattr(lookup.session, "id", None)
    )
