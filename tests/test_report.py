"""Numbers, sentences and figures made from results of analysis."""

from __future__ import annotations

import json
import math
import re

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ferocal.analysis.caveats.kinds import Caveat
from ferocal.analysis.caveats.table import CAVEATS
from ferocal.analysis.data.readings import Scale, Series
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Effect, Shift
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.answers.comparison import Comparison
from ferocal.render import numbers
from ferocal.render.answer import answer, caveat_lines, collect_caveats, evidence_text, verdict_text
from ferocal.render.comparison import comparison_object
from ferocal.render.figures import effects_figure, to_svg
from ferocal.render.json_text import dumps
from ferocal.render.sections import SECTIONS
from ferocal.terms.numbers import MINUS, significant


def effect(
    change: float = 0.05,
    half: float = 0.01,
    verdict: Verdict = Verdict.BETTER,
    *,
    name: str = "r64",
    workload: str = "flight",
    beyond: bool = True,
    more: int | None = None,
    beyond_reach: bool = False,
    scale: Scale = "ratio",
    caveats: tuple[Caveat, ...] = (),
    method: Method = Method.PAIRED,
    visits: int = 5,
    control: bool = False,
) -> Effect:
    ends = (math.log1p(change), math.log1p(change - half), math.log1p(change + half))
    shift = Shift(*ends, p_value=0.001, sd=0.01, degrees=4.0)
    return Effect(
        bench="node", series=Series(workload, "fps", "fps", "higher", 0.02), baseline="r61",
        configuration=name, scale=scale, method=method, change=change, low=change - half,
        high=change + half, shift=shift, p_adjusted=0.001, verdict=verdict, beyond_margin=beyond,
        rounds=5, visits=5, base_visits=visits, runs=20, base_runs=10, unpaired=0, more_rounds=more,
        out_of_reach=beyond_reach, noise_floor=None, control=control, caveats=caveats,
    )  # fmt: skip


@given(st.floats(-1e6, 1e6), st.floats(1e-6, 1e5))
def test_a_rounded_number_stays_within_its_uncertainty(value: float, uncertainty: float) -> None:
    places = numbers.decimals_for(uncertainty)
    text = numbers.signed(value, places).replace(MINUS, "-").replace(",", "")
    assert abs(float(text) - value) <= max(0.51 * 10**-places, 1e-9 * abs(value))
    # One or two digits of the uncertainty are shown, unless it is a matter of whole numbers.
    assert places == 0 or 0.95 <= uncertainty * 10**places < 30.1


@pytest.mark.parametrize(
    ("shown", "expected"),
    [
        (numbers.change_text(effect(0.05, 0.012)), "+5.0 %"),
        (numbers.change_text(effect(-0.05, 0.0012)), "−5.00 %"),
        (numbers.change_text(effect(3.641, 0.4)), "+364 %"),
        (numbers.interval_text(effect(0.05, 0.012)), "+3.8 … +6.2 %"),
        (numbers.interval_text(effect(0.05, float("nan"))), "–"),
        (numbers.change_text(effect(1.5, 0.4, scale="difference")), "+1.5 fps"),
        (numbers.percent(0.0123), "1.2 %"),
        (significant(1234567.0), "1,234,567"),
        (significant(0.00001234), "1.234e-05"),
        (significant(float("nan")), "–"),
        (numbers.duration(4.2), "4.2 s"),
        (numbers.duration(250), "4 min 10 s"),
        (numbers.duration(9000), "2 h 30 min"),
        (numbers.interval_name(0.9831), "98.31 % interval"),
        (numbers.margin_text(0.025), "±2.5 %"),
    ],
)
def test_numbers_read_as_people_write_them(shown: str, expected: str) -> None:
    assert shown == expected


EQUAL_QUERY = effect(0.0, 0.01, Verdict.EQUIVALENT, workload="query")
WORSE = effect(-0.05, 0.01, Verdict.WORSE, name="r65")
EQUAL = effect(0.001, 0.01, Verdict.EQUIVALENT)
OPEN = effect(0.03, 0.05, Verdict.INCONCLUSIVE, more=4)


@pytest.mark.parametrize(
    ("effects", "sentence"),
    [
        ([], "Not decided: nothing has been measured"),
        (
            [effect(name="control", control=True), EQUAL],
            "control arm, which is r61 again, changes flight fps by +5.0 %, so trust nothing",
        ),
        ([effect(0.0, name="control", verdict=Verdict.EQUIVALENT, control=True), EQUAL], "No: "),
        ([EQUAL], "No: nothing changes by more than ±2 % against r61."),
        ([OPEN], "Not decided: 1 of 1 comparison with r61 are inconclusive."),
        ([OPEN, EQUAL], "inconclusive, the other 1 stay within ±2 %."),
        ([effect()], "Yes: r64 changes flight fps +5.0 % (better)."),
        ([effect(beyond=False)], "(better, maybe less than the margin)"),
        (
            [effect(), effect(0.0, 0.01, Verdict.EQUIVALENT, workload="query")],
            "and leaves query fps",
        ),
        (
            [effect(), effect(-0.05, 0.01, Verdict.WORSE, name="r65")],
            "; r65 changes flight fps −5.0 %",
        ),
        ([effect(name=n) for n in "abc"], "3 of 3 configurations change a score against r61"),
        (
            [*(effect(name=n) for n in "abc"), effect(-0.03, 0.01, Verdict.WORSE, name="d")],
            "but 1 of 4 comparisons gets worse, flight fps with d (−3.0 %) the most",
        ),
    ],
)
def test_one_sentence_answers_the_question(effects: list[Effect], sentence: str) -> None:
    text = answer(effects, [e for e in effects if e.control])
    assert sentence in text
    assert text.endswith(".")


def test_verdicts_say_what_qualifies_them() -> None:
    assert verdict_text(OPEN) == "inconclusive, ~4 more rounds"
    assert verdict_text(effect(beyond=False)) == "better, maybe < margin"
    assert verdict_text(EQUAL) == "equivalent"
    long = effect(0.03, 0.05, Verdict.INCONCLUSIVE, beyond_reach=True)
    assert verdict_text(long) == "inconclusive, out of reach (> 100)"
    assert evidence_text(EQUAL) == "5 rounds"
    assert evidence_text(effect(method=Method.VISITS, visits=4)) == "5 and 4 visits"
    assert evidence_text(effect(method=Method.FLOOR)) == "5 visits each, noise floor"


def test_a_caveat_is_told_once_with_the_places_where_it_applies() -> None:
    few, other = Caveat(CAVEATS["few-rounds"], "few"), Caveat(CAVEATS["no-spread"], "none")
    effects = [
        effect(name="a", caveats=(few, other)),
        effect(name="b", caveats=(few,)),
        effect(name="b", workload="query", caveats=(few,)),
    ]
    first, second = collect_caveats(effects)
    assert (first.code, first.seen) == ("few-rounds", (("all", "few"),))
    assert (second.advice, second.seen) == (other.advice, (("a", "none"),))
    (group,) = collect_caveats([effect(name="a"), effect(name="a", workload="x", caveats=(few,))])
    assert group.seen[0][0] == "x fps"
    many = [effect(name="b", caveats=(Caveat(CAVEATS["drift"], f"by {n} %"),)) for n in range(9)]
    lines = caveat_lines(many)
    assert lines[0].startswith("caveat drift: find out") and len(lines) == 6
    assert lines[-1].startswith("  and 5 more")


def test_json_has_no_nan_and_loses_no_digit() -> None:
    strange = effect(1 / 3, float("nan"))
    document = comparison_object(
        Comparison(
            "?",
            "r61",
            0.02,
            0.95,
            ("node",),
            (strange,),
            gaps=(),
            alarm=(),
            unmeasured=(),
            criteria_changes=(),
            excluded=0,
            left_out=0,
        )
    )
    text = dumps(document)
    (parsed,) = json.loads(text)["effects"]
    assert (parsed["low"], parsed["high"]) == (None, None)
    assert parsed["change"] == 1 / 3


def test_the_figure_labels_every_effect_and_is_the_same_each_time() -> None:
    effects = [effect(), OPEN, effect(3.0, 0.5, name="wide"), effect(1, 1, scale="difference")]
    figure = effects_figure(effects, 0.95)
    assert figure is not None
    svg = to_svg(figure)
    for text in ("+5.0 %  better", "+300 %", "no change", "95 % interval", "flight: fps, fps"):
        assert text in svg, text
    again = effects_figure(effects, 0.95)
    assert again is not None and to_svg(again) == svg
    widths = [float(w) for w in re.findall(r'<svg[^>]* width="([0-9.]+)pt"', svg)]
    assert widths == [756.0]
    assert effects_figure(effects[-1:], 0.95) is None
    drawn = [np.asarray(line.get_xdata()) for line in figure.axes[0].lines]
    intervals = sorted(tuple(ends) for ends in drawn if len(ends) == 2 and ends[0] != ends[1])
    expected = [(e.shift.low, e.shift.high) for e in effects if e.scale == "ratio"]
    assert intervals == sorted(expected)


def test_every_section_of_the_report_has_a_place_and_a_title_of_its_own() -> None:
    names = [section.name for section in SECTIONS]
    titles = [section.title for section in SECTIONS if section.title]
    assert len(names) == len(set(names)) and len(titles) == len(set(titles))
