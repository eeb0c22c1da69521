"""Noise floors brought from one study into the ledger of another."""

from __future__ import annotations

import math
from pathlib import Path

from ferocal.analysis.floors import NoiseFloor, estimate_floor
from ferocal.analysis.readings import choose_scales
from ferocal.bench.facts import Fact, find_changes
from ferocal.comparison import floor_arm
from ferocal.errors import UsageError
from ferocal.evidence import Evidence, gather
from ferocal.ledger.extract import read_facts, read_floors, read_visits
from ferocal.ledger.opening import open_ledger
from ferocal.ledger.records import FloorRecord
from ferocal.ledger.store import Ledger
from ferocal.study.load import Study, load_study


def list_floors(directory: Path) -> list[FloorRecord]:
    """The noise floors that were brought into a study, in order."""
    study = load_study(directory)
    with open_ledger(directory) as ledger:
        return read_floors(ledger, study.bench)


def bring_floors(directory: Path, source: Path) -> list[FloorRecord]:
    """Record the noise floors of the study in ``source`` in that in ``directory``.

    They come from the visits to the control arm of the other study, or else to its
    baseline, for every metric that both studies name.

    Raises
    ------
    UsageError
        When the other study is of another bench, is not interleaved, or has no metric
        in common with this one that was read in three visits at least; nothing is
        recorded then.
    FerocalError
        When a ledger cannot be read or written.
    """
    study, other = load_study(directory), load_study(source)
    if other.bench != study.bench:
        raise UsageError(
            f'{source} is of the bench "{other.bench}", not of "{study.bench}": how much visits '
            "vary there says nothing of this one"
        )
    if other.head.schedule != "rounds":
        raise UsageError(
            f'{source} has the schedule "{other.head.schedule}": a noise floor needs visits '
            "made in rounds, apart from each other"
        )
    with open_ledger(source) as ledger:
        evidence = gather(other, ledger)
    with open_ledger(directory, create=True) as ledger:
        _check_hardware(ledger, evidence, source)
        records = _estimate(study, other, evidence, source)
        if not records:
            raise UsageError(
                f"{source} has no metric of this study with at least three visits to "
                f"{floor_arm(other)}; nothing was recorded"
            )
        ledger.record_floors(records)
    return records


def _check_hardware(ledger: Ledger, evidence: Evidence, source: Path) -> None:
    """Compare the hardware of the first visits, where this study has visits already."""
    facts = read_facts(ledger)
    own = [facts[visit.facts_id] for visit in read_visits(ledger).values()][:1]
    theirs = [evidence.facts[visit.facts_id] for visit in evidence.visits][:1]
    if not own or not theirs:
        return
    sides = [[Fact(**fact) for fact in side[0]] for side in (own, theirs)]
    changes = find_changes(sides[0], sides[1], frozenset({"hardware", "declared"}))
    if changes:
        listed = "\n".join(f"  {change}" for change in changes)
        raise UsageError(f"{source} was measured on other hardware:\n{listed}")


def _estimate(study: Study, other: Study, evidence: Evidence, source: Path) -> list[FloorRecord]:
    readings = evidence.readings
    wanted = {(workload, name, m.unit) for workload, name, m in study.metrics()}
    arm = floor_arm(other)
    scales = choose_scales(readings)
    records = []
    for s, series in enumerate(readings.series):
        if (series.workload, series.metric, series.unit) not in wanted:
            continue
        floor = estimate_floor(readings, readings.configurations.index(arm), s, scales)
        if floor is not None:
            names = (study.bench, series.workload, series.metric, series.unit)
            text = f"{floor.source} in {source.resolve().name}"
            records.append(_record(names, floor, evidence.visits[-1].started_at, text))
    return records


def _record(
    names: tuple[str, str, str, str], floor: NoiseFloor, measured_at: str, source: str
) -> FloorRecord:
    unknown = math.isnan(floor.run_variance)
    return FloorRecord(
        *names,
        scale=floor.scale,
        variance=floor.variance,
        degrees=floor.degrees,
        runs=floor.runs,
        run_variance=None if unknown else floor.run_variance,
        run_degrees=floor.run_degrees,
        measured_at=measured_at,
        source=source,
    )
