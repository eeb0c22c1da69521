"""Gaps: cells without a reading, and why each is empty."""

from __future__ import annotations

import numpy as np

from ferocal.analysis.data.gaps import Gap, GapMark
from ferocal.analysis.data.readings import Readings
from ferocal.analysis.inference.weights import Arm
from ferocal.answers.evidence import Evidence
from ferocal.study.load import Study
from ferocal.terms.wording import listed


def find_gaps(study: Study, evidence: Evidence) -> tuple[Gap, ...]:
    """The empty cells of every bench of which anything was read, in the order of the tables."""
    readings = evidence.readings
    present = set(np.unique(readings.arm_of).tolist())
    used = set(np.unique(readings.bench_of).tolist())
    inactive = _inactive(evidence)
    absences = {
        (gap.bench, gap.configuration, gap.workload, gap.metric): gap
        for gap in evidence.absences.values()
    }
    uncomputed = {
        (bench, *place): listed(list(dict.fromkeys(reason for reason, _ in reasons)))
        for bench, context in evidence.contexts.items()
        for place, reasons in context.uncomputed.items()
    }
    gaps = []
    for b, bench in enumerate(readings.benches):
        for s, series in enumerate(readings.series):
            for c, name in enumerate(readings.configurations):
                if Arm(s, b, c).code(readings) in present or b not in used:
                    continue
                place = (bench, name, series.workload, series.metric)
                absence = absences.get(place)
                if study.is_impossible(name, series.workload):
                    mark, reason = GapMark.IMPOSSIBLE, ""
                elif absence is not None:
                    mark, reason = GapMark(absence.mark), absence.reason or ""
                elif place in uncomputed:
                    mark, reason = GapMark.ABSENT, uncomputed[place]
                elif _has_sibling(readings, present, (s, b, c)):
                    mark, reason = GapMark.ABSENT, "does not occur in these traces"
                elif (bench, name) in inactive:
                    mark, reason = GapMark.NOT_ACTIVE, inactive[bench, name]
                else:
                    mark, reason = _lost(evidence, bench, name, series.workload)
                gaps.append(Gap(bench, series.workload, series.metric, name, mark, reason))
    return tuple(gaps)


def _has_sibling(readings: Readings, present: set[int], place: tuple[int, int, int]) -> bool:
    """Whether another part of the same trace was computed there."""
    s, b, c = place
    series = readings.series[s]
    trace, slash, _ = series.metric.partition("/")
    if not slash:
        return False
    return any(
        Arm(n, b, c).code(readings) in present
        for n, other in enumerate(readings.series)
        if other.workload == series.workload and other.metric.startswith(f"{trace}/")
    )


def _inactive(evidence: Evidence) -> dict[tuple[str, str], str]:
    """Benches and configurations of which no visit was active, with what a check said."""
    states: dict[tuple[str, str], set[str]] = {}
    said: dict[tuple[str, str], str] = {}
    for visit in evidence.visits:
        place = (visit.bench, visit.configuration)
        states.setdefault(place, set()).add(visit.state)
        for check in visit.checks:
            if not check["holds"]:
                said[place] = (
                    f"{check['level']}: expected {check['expected']}, seen {check['seen']}"
                )
    return {
        place: said.get(place, "") for place, found in states.items() if found == {"not active"}
    }


def _lost(evidence: Evidence, bench: str, configuration: str, workload: str) -> tuple[GapMark, str]:
    """Whether runs were taken and lost, or none was."""
    context = evidence.contexts.get(bench)
    lost = {} if context is None else context.losses.get((workload, configuration), {})
    how = ", ".join(f"{count} {word}" for word, count in sorted(lost.items()))
    if any(word != "excluded" for word in lost):
        return GapMark.FAILED, how
    return GapMark.NOT_MEASURED, how
