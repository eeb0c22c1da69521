"""Claims: what was said beforehand, beside what readings say."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from typing import Any

from ferocal.analysis.caveats.kinds import Caveat
from ferocal.analysis.data.index import (
    add_index,
    deciding_places,
    index_members,
    index_series,
    index_weights,
)
from ferocal.analysis.data.readings import Readings, choose_scales, concatenate
from ferocal.analysis.data.series import Scale, Series
from ferocal.analysis.inference.claims import ClaimTest, ClaimVerdict, JudgedClaim, judge_claims
from ferocal.analysis.inference.effects import Effect, Setting
from ferocal.analysis.inference.weights import Arm
from ferocal.answers.answer import Answer, Doubts, basis_of
from ferocal.answers.compare import (
    Prospect,
    doubts_of,
    find_barred,
    levels_of,
    prospect_of,
    setting_of,
)
from ferocal.answers.evidence import Evidence
from ferocal.ledger.reading.additions import FrozenClaim
from ferocal.study.claims import INDEX, NOISE, TIMES, Claim, Limit, claims_of, digest_of
from ferocal.study.load import Study
from ferocal.terms.frozen import dataclass
from ferocal.terms.times import span_of

_OPEN = (-math.inf, math.inf)


@dataclass(frozen=True)
class ClaimFinding:
    """A claim, what readings say of it, and when it was written down.

    ``kind`` says what the bound is on: "change", "value" or "ratio", ``content`` is what the study
    file has. ``written_before`` is None where it is not known well enough when the readings were
    taken: a date has no time of day, and a time may have no zone. ``history`` are the claims of
    that name as they once stood, each with the date when it was first seen. ``barred`` says why
    its sides are not comparable, where they are not; ``unfit`` that its bound is not on the scale
    of its metric. ``alone`` is whether the study has no other bench.
    """

    name: str
    claim: Claim
    series: Series
    bench: str
    baseline: str
    kind: str
    content: Mapping[str, Any]
    judged: JudgedClaim
    written_before: bool | None
    first_seen: str | None
    history: tuple[tuple[str, Mapping[str, Any]], ...]
    barred: Caveat | None = None
    unfit: bool = False
    alone: bool = True


@dataclass(frozen=True)
class ClaimsAnswer(Answer):
    """All claims of a study; ``withdrawn`` were once in the study file and are no more.

    ``prospect`` says how more can be measured on the first bench.
    """

    findings: tuple[ClaimFinding, ...]
    withdrawn: tuple[FrozenClaim, ...]
    frozen: bool
    prospect: Prospect

    def of(self, verdict: ClaimVerdict) -> list[ClaimFinding]:
        """The claims with a verdict."""
        return [f for f in self.findings if f.judged.verdict is verdict]


def examine(
    study: Study,
    evidence: Evidence,
    frozen: Sequence[FrozenClaim],
) -> ClaimsAnswer:
    """What readings say of the claims of a study.

    ``frozen`` are the claims as the ledger has kept them, by digest.
    """
    present = {name: digest_of(content) for name, content in claims_of(study).items()}
    basis = _basis_of(study, evidence)
    asked = [_ask(study, basis, name, claim) for name, claim in study.file.claim.items()]
    tests = {a.name: test for a, test in asked if test is not None}
    judged = judge_claims(basis.readings, list(tests.values()), basis.setting)
    verdicts = dict(zip(tests, judged, strict=True))
    findings = [replace(a, judged=verdicts.get(a.name, a.judged)) for a, _ in asked]
    findings = _without_barred(study, evidence, findings)
    dated = [
        _with_dates(f, [c for c in frozen if c.name == f.name], present[f.name], evidence)
        for f in findings
    ]
    return ClaimsAnswer(
        **basis_of(study, evidence, _doubts(study, evidence, findings)),
        findings=tuple(dated),
        withdrawn=tuple(c for c in _latest(frozen) if c.name not in present),
        frozen=all(any(c.digest == d for c in frozen) for d in present.values()),
        prospect=prospect_of(study, evidence, study.benches[0]),
    )


def _doubts(study: Study, evidence: Evidence, findings: Sequence[ClaimFinding]) -> Doubts:
    """The comparisons that claims rest on; of a value only what was seen on its side."""
    effects: dict[tuple[str, Series, str, str], Effect] = {}
    for base in dict.fromkeys(f.baseline for f in findings):
        own = [f for f in findings if f.baseline == base]
        series, benches = {f.series for f in own}, {f.bench for f in own}
        for e in doubts_of(study, evidence, series, benches, baseline=base).effects:
            for f in own:
                if (e.bench, e.series) != (f.bench, f.series):
                    continue
                name, key = f.claim.configuration, (e.bench, e.series, e.configuration, base)
                if f.kind == "change" and e.configuration == name:
                    effects[key] = e
                elif f.kind != "change" and name in (e.configuration, e.baseline):
                    seen = tuple(c for c in e.caveats if c.side == name)
                    effects.setdefault(key, replace(e, caveats=seen))
    return Doubts(tuple(effects.values()), levels_of(study, study.baseline))


def _without_barred(
    study: Study, evidence: Evidence, findings: Sequence[ClaimFinding]
) -> list[ClaimFinding]:
    """The findings, undecided where the two sides are not comparable."""
    changes = {f.baseline for f in findings if f.kind == "change"}
    barred = {
        base: find_barred(study, evidence, base, setting_of(study, evidence, base))
        for base in changes
    }
    found = []
    for f in findings:
        place = (f.bench, f.series, f.claim.configuration)
        reason = barred[f.baseline].get(place) if f.kind == "change" else None
        if reason is not None:
            open_now = replace(f.judged, verdict=ClaimVerdict.UNDECIDED, more_rounds=None)
            f = replace(f, judged=open_now, barred=reason)
        found.append(f)
    return found


def _latest(frozen: Sequence[FrozenClaim]) -> list[FrozenClaim]:
    return list({claim.name: claim for claim in frozen}.values())


@dataclass(frozen=True)
class _Basis:
    """The readings, those of the index among them, and the setting in which claims are tested."""

    readings: Readings
    scales: tuple[Scale, ...]
    setting: Setting
    series: Mapping[str, int]


def _basis_of(study: Study, evidence: Evidence) -> _Basis:
    readings = evidence.readings
    if any(INDEX in (c.metric, c.ratio_to) for c in study.file.claim.values()):
        readings = _with_index(readings, study.head.margin)
    names = {s.title: n for n, s in enumerate(readings.series)}
    names |= {f"{s.workload} {s.metric}".strip(): n for n, s in enumerate(readings.series)}
    counts = Counter(s.workload for s in readings.series)
    alone = {s.workload: n for n, s in enumerate(readings.series) if counts[s.workload] == 1}
    setting = setting_of(study, evidence, study.baseline)
    by_name = {**names, **{w: n for w, n in alone.items() if w}}
    return _Basis(readings, choose_scales(readings), setting, by_name)


def _with_index(readings: Readings, margin: float) -> Readings:
    """Readings with an index, which on each bench is of what was read wherever it was measured."""
    parts, index = [readings], None
    for bench in range(len(readings.benches)):
        here = readings.on_bench(bench)
        members = index_members(here, deciding_places(here.series, set(here.series_of.tolist())))
        weights = index_weights(here.series, members)
        if len({here.series[n].workload for n in weights}) > 1:
            index = index or index_series(here, members, margin, INDEX)
            more, _ = add_index(here, choose_scales(here), {index: weights}, as_read=True)
            parts.append(more.select(more.series_of == len(readings.series)))
    if index is None:
        return readings
    return replace(concatenate(parts), series=(*readings.series, index))


def _ask(
    study: Study, basis: _Basis, name: str, claim: Claim
) -> tuple[ClaimFinding, ClaimTest | None]:
    """A claim before it is judged, and the test of it, None where it cannot be tested."""
    n = basis.series.get(claim.metric)
    nan = math.nan
    finding = ClaimFinding(
        name=name,
        claim=claim,
        series=Series("", claim.metric, "1", "higher", 0.0, label=claim.metric)
        if n is None
        else basis.readings.series[n],
        bench=claim.bench or study.benches[0],
        baseline=claim.against or study.baseline,
        kind="ratio" if claim.ratio_to else "value" if claim.on_value else "change",
        content=claims_of(study)[name],
        judged=JudgedClaim(ClaimVerdict.UNDECIDED, "ratio", nan, nan, nan, _OPEN, nan, None),
        written_before=None,
        first_seen=None,
        history=(),
        alone=len(study.benches) == 1,
    )
    test = None if n is None else _test(basis, finding, n)
    return replace(finding, unfit=n is not None and test is None), test


def _test(basis: _Basis, finding: ClaimFinding, n: int) -> ClaimTest | None:
    claim, readings = finding.claim, basis.readings
    bench = readings.benches.index(finding.bench)
    arm = Arm(n, bench, readings.configurations.index(claim.configuration))
    weights = [(arm, 1.0)]
    if finding.kind == "change":
        against = readings.configurations.index(finding.baseline)
        weights.append((Arm(n, bench, against), -1.0))
    elif finding.kind == "ratio":
        other = basis.series.get(claim.ratio_to or "")
        if other is None or basis.scales[other] != "ratio" or basis.scales[n] != "ratio":
            return None
        weights.append((Arm(other, bench, arm.configuration), -1.0))
    ends = _ends(claim, basis.scales[n], finding.kind)
    return None if ends is None else ClaimTest(tuple(weights), *ends, noise=claim.within == NOISE)


def _ends(claim: Claim, scale: Scale, kind: str) -> tuple[float, float] | None:
    """The ends of a claim on the scale of the analysis; None where its bound does not fit that."""
    if claim.within == NOISE:
        return _OPEN
    ends = [_end(limit, scale, kind) for limit in claim.limits]
    known = [end for end in ends if end is not None]
    if len(known) < len(ends):
        return None
    first = known[0]
    if claim.between is not None:
        return first, known[1]
    if claim.within is not None:
        return -first, first
    return (-math.inf, first) if claim.at_most is not None else (first, math.inf)


def _end(limit: Limit, scale: Scale, kind: str) -> float | None:
    if limit.unit == TIMES or kind == "ratio":
        return math.log(limit.number) if scale == "ratio" and limit.number > 0 else None
    if kind == "value" and scale == "ratio":
        return math.log(limit.number) if limit.number > 0 else -math.inf
    if limit.unit == "%" and kind == "change":
        return math.log1p(limit.number / 100) if scale == "ratio" else None
    return limit.number if scale == "difference" else None


def _with_dates(
    finding: ClaimFinding, kept: Sequence[FrozenClaim], digest: str, evidence: Evidence
) -> ClaimFinding:
    """The finding with when its claim was first seen as it is, and as what before."""
    own = next((c for c in kept if c.digest == digest), None)
    return replace(
        finding,
        written_before=None if own is None else _is_before(own, evidence),
        first_seen=None if own is None else own.at,
        history=tuple((c.at[:10], c.content) for c in kept if c.digest != digest),
    )


def _is_before(claim: FrozenClaim, evidence: Evidence) -> bool | None:
    """Whether a claim was kept before the first reading was taken; None where unknown."""
    if not claim.before_readings:
        return False
    times = [visit.started_at for visit in evidence.visits]
    kept = datetime.fromisoformat(claim.at)
    spans = [span_of(time) for time in times if time]
    if any(last < kept for _, last in spans):
        return False
    return True if len(spans) == len(times) and all(f >= kept for f, _ in spans) else None
