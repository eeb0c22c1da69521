"""Noise floors: the noise between visits, as is known, and as an earlier study shows."""

from __future__ import annotations

import math
from collections.abc import Iterable
from pathlib import Path

from ferocal.analysis.data.readings import choose_scales
from ferocal.analysis.inference.noise_floors import NoiseFloor, find_own_floor
from ferocal.answers.evidence import Evidence, gather
from ferocal.bench.facts import Fact, find_changes
from ferocal.errors import UsageError
from ferocal.ledger.opening import LEDGER_FILE, read_ledger
from ferocal.ledger.reading.additions import read_noise_floors
from ferocal.ledger.reading.visits import read_visits, recorded_facts
from ferocal.ledger.records import NoiseFloorRecord
from ferocal.study.configurations import CONTROL
from ferocal.study.load import Study, load_study
from ferocal.terms.wording import listed

_HARDWARE = frozenset({"hardware", "declared"})


def known_noise_floors(study: Study) -> list[NoiseFloorRecord]:
    """The noise floors imported into a study, in order."""
    with read_ledger(study.directory) as ledger:
        return read_noise_floors(ledger)


def _quoted(names: Iterable[str]) -> str:
    return listed([f'"{name}"' for name in names])


def find_noise_floors(study: Study, source: Path) -> list[NoiseFloorRecord]:
    """The noise floors that the study in ``source`` has for this one.

    They come from the visits to the control arm of the other study, or else to all of its
    configurations with three visits, for every metric and bench that both studies name. In
    which order it was measured does not matter.

    Raises
    ------
    UsageError
        When the other study is of other benches, or has no metric in common with this one
        that was read in three visits at least.
    LedgerError
        When a ledger cannot be read.
    """
    other = load_study(source)
    benches = [bench for bench in study.benches if bench in other.benches]
    if not benches:
        raise UsageError(
            f"{source} was measured on {_quoted(other.benches)}, not on {_quoted(study.benches)}; "
            "its noise floor does not apply here"
        )
    with read_ledger(source) as ledger:
        evidence = gather(other, ledger)
    records = []
    for bench in benches:
        _check_hardware(study, bench, evidence, source)
        records += _estimate(study, other, evidence, bench, source)
    if not records:
        raise UsageError(
            f"{source} has no metric of this study with at least three visits to one "
            "configuration; nothing was recorded"
        )
    return records


def _check_hardware(study: Study, bench: str, evidence: Evidence, source: Path) -> None:
    """Compare the hardware of the first visits, where this study has visits already."""
    if not (study.directory / LEDGER_FILE).exists():
        return
    with read_ledger(study.directory) as ledger:
        recorded, visits = recorded_facts(ledger), read_visits(ledger).values()
        here = [recorded[visit.facts_id] for visit in visits if visit.bench == bench][:1]
    there = [evidence.facts[v.facts_id] for v in evidence.visits if v.bench == bench][:1]
    if not here or not there:
        return
    sides = [[Fact(**fact) for fact in side[0]] for side in (here, there)]
    changes = find_changes(sides[0], sides[1], _HARDWARE)
    if changes:
        lines = "\n".join(f"  {change}" for change in changes)
        raise UsageError(f"{source} was measured on other hardware:\n{lines}")


def _estimate(
    study: Study, other: Study, evidence: Evidence, bench: str, source: Path
) -> list[NoiseFloorRecord]:
    readings = evidence.readings.numbers
    wanted = {(workload, name, m.unit) for workload, name, m in study.metrics()}
    place = readings.benches.index(bench)
    control = CONTROL if other.head.control else None
    scales = choose_scales(readings)
    last = max((v.started_at for v in evidence.visits if v.bench == bench), default="")
    records = []
    for s, series in enumerate(readings.series):
        if (series.workload, series.metric, series.unit) not in wanted:
            continue
        floor = find_own_floor(readings, s, place, scales, control)
        if floor is not None:
            names = (bench, series.workload, series.metric, series.unit)
            text = f"{floor.source} in {source.resolve().name}"
            records.append(_record(names, floor, last, text))
    return records


def _record(
    names: tuple[str, str, str, str], floor: NoiseFloor, measured_at: str, source: str
) -> NoiseFloorRecord:
    unknown = math.isnan(floor.run_variance)
    return NoiseFloorRecord(
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
