"""Numbers, sentences and figures made from results of analysis."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Callable
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Ferocal
from ferocal.analysis.data.series import Scale, Series
from ferocal.analysis.inference.contrasts import Method
from ferocal.analysis.inference.effects import Effect
from ferocal.analysis.inference.verdicts import Verdict
from ferocal.documents import numbers
from ferocal.documents.blocks import Grid
from ferocal.documents.objects.compare import ComparisonObject
from ferocal.documents.overview import overview_blocks, shown_series
from ferocal.documents.report import PARTS
from ferocal.documents.wording import evidence_text, verdict_text
from ferocal.media.html.strips import axis_of
from ferocal.media.json import dumps
from ferocal.media.signs import Signs
from ferocal.terms.numbers import GROUP, MINUS, significant
from studies import make_effect, make_study

FPS = Series("flight", "fps", "fps", "higher", 0.02)
DELAY = Series("flight", "delay", "ms", "lower", 0.02, unit_margin=1.0)


def effect(text: str, scale: Scale = "ratio") -> Effect:
    return make_effect(FPS if scale == "ratio" else DELAY, f"r64 {text}", scale)


def beside(text: str, scale: Scale = "ratio") -> str:
    """A change and its interval, as a cell of a table has them."""
    return " ".join(numbers.change_and_half(effect(text, scale)))


@given(st.floats(-1e6, 1e6), st.floats(1e-6, 1e5))
def test_a_rounded_number_stays_within_its_uncertainty(value: float, uncertainty: float) -> None:
    places = numbers.decimals_for(uncertainty)
    text = numbers.signed(value, places).replace(MINUS, "-").replace(GROUP, "")
    assert abs(float(text) - value) <= max(0.51 * 10**-places, 1e-9 * abs(value))
    # One or two digits of the uncertainty are shown, unless it is a matter of whole numbers.
    assert places == 0 or 0.95 <= uncertainty * 10**places < 30.1


@pytest.mark.parametrize(
    ("shown", "expected"),
    [
        (numbers.change_text(effect("+5.0±1.2")), "+5.0 %"),
        (numbers.change_text(effect("-5.0±0.12")), "−5.00 %"),
        (numbers.change_words(effect("+364.1±40")), "+364 % (× 4.6)"),
        (numbers.change_words(effect("-80±2")), "−80.0 % (× 0.200)"),
        (numbers.change_words(effect("+190±40")), "+190 %"),
        (numbers.change_text(effect("-0.05±0.35")), "−0.1 %"),
        (numbers.change_text(effect(">+14.5")), ">+14.5 %"),
        (numbers.interval_text(effect("+5.0±1.2")), "+3.8 … +6.2 %"),
        (numbers.interval_text(effect("-4.0±3.9")), "−8 … −0.1 %"),
        (numbers.interval_text(effect("+5.0")), "–"),
        (numbers.change_text(effect("+1.5±0.4", "difference")), "+1.5 ms"),
        (beside("+5.0±1.2"), "+5.0 ±1.2 %"),
        (beside("+0.1±0.4"), "+0.1 ±0.4 %"),
        (beside("+300±20"), "× 4.00 ±0.20"),
        (beside("+40±35"), "+5 … +75 %"),
        (beside("+300±250"), "× 1.5 … 6.5"),
        (beside("-70±25"), "× 0.050 … 0.55"),
        (beside("+9000±8990"), "× 91 wide"),
        (beside("+9000±9200"), "× 91 wide"),
        (beside("+5.0"), "+5.0 %"),
        (beside(">+20"), ">+20.0 %"),
        (beside("+1.5±0.4", "difference"), "+1.5 ±0.4 ms"),
        (beside("+0.5±9", "difference"), "0 ±9 ms"),
        (numbers.percent(0.0123), "1.2 %"),
        (significant(1234.0), "1234"),
        (significant(1234567.0), f"1{GROUP}234{GROUP}567"),
        (significant(0.00001234), "1.234e-05"),
        (significant(float("nan")), "–"),
        (numbers.duration(4.2), "4.2 s"),
        (numbers.duration(125), "2 min 5 s"),
        (numbers.duration(240), "4 min"),
        (numbers.duration(9000), "2 h 30 min"),
        (numbers.interval_name(0.9831), "98.31 % interval"),
        (numbers.margin_text(0.025), "±2.5 %"),
    ],
)
def test_numbers_read_as_people_write_them(shown: str, expected: str) -> None:
    assert shown == expected


def test_verdicts_say_what_qualifies_them() -> None:
    adjusted = "inconclusive after adjusting for 9 comparisons, ~4 more rounds"
    assert verdict_text(effect("+3.0±2.0 4 more")) == adjusted
    calm = effect("+3.0±5.0 1 more")
    calm = replace(calm, shift=replace(calm.shift, p_value=0.2))
    assert verdict_text(calm) == "inconclusive, ~1 more round"
    assert verdict_text(effect("+3.0±1.0 small")) == "better, may be within the margin"
    assert verdict_text(effect("+0.1±1.0")) == "equivalent"
    assert verdict_text(effect("+3.0±1.0 stated")) == "better, as stated"
    far = replace(effect("+3.0±5.0 beyond"), family_size=1)
    assert verdict_text(far) == "inconclusive, out of reach (> 100 rounds)"
    assert evidence_text(effect("+0.1±1.0")) == "5 rounds"
    visits = replace(effect("+0.1±1.0"), method=Method.VISITS)
    assert evidence_text(replace(visits, base_visits=4)) == "5 and 4 visits"
    assert evidence_text(replace(visits, method=Method.FLOOR)) == "5 visits each, noise floor"


def test_json_has_no_nan_and_loses_no_digit() -> None:
    study = make_study("flight/- fps higher | r64 +33.333333333333336")
    (parsed,) = json.loads(dumps(ComparisonObject.make(study).model_dump()))["effects"]
    assert (parsed["low"], parsed["high"]) == (None, None)
    assert parsed["change"] == study.effects[0].change


def test_the_overview_of_a_page_has_one_axis_of_ratios_with_better_to_the_right() -> None:
    study = make_study(
        """
        flight/rate fps higher primary | r64 +9.1±1.5 | r65 +0.2±0.9 | r66 >+20
        flight/stutters 1/min lower detail | r64 +209±60 | r65 +1.0±22
        flight/jank ms lower detail | r64 -4.0±1
        query/- 1/s higher | r64 +0.3
        start/- s lower primary | r64 -6.0±1 | r65 +5.0±1
        """
    )
    (grid,) = overview_blocks(study, shown_series(study))
    assert isinstance(grid, Grid)
    rows = {row.label.split()[0]: row for row in grid.rows if row.cells}
    # A detail is there where it gets clearly worse.
    assert set(rows) == {"rate", "stutters", "query", "start"}
    strips = [c.strip for row in grid.rows for c in row.cells.values() if c.strip is not None]
    axis = axis_of(strips)
    assert axis is not None
    drawn = {
        (name, arm): axis.draw(cell.strip)
        for name, row in rows.items()
        for arm, cell in row.cells.items()
        if cell.strip is not None
    }
    for s in drawn.values():
        assert 0 <= s.low <= s.centre <= s.high <= 100
        assert s.band is not None and s.band[0] < axis.zero < s.band[1]
    # Less time and more frames are both to the right; twice the stutters are off the left end.
    assert drawn["start", "r64"].centre > axis.zero > drawn["start", "r65"].centre
    rate = drawn["rate", "r64"]
    assert rate.band is not None and rate.low > rate.band[1]
    assert drawn["stutters", "r64"].beyond == "left"
    # Equal ratios are equally far from no change, whichever way is better.
    assert axis.place(math.log(1.1)) + axis.place(-math.log(1.1)) == pytest.approx(2 * axis.zero)
    # An interval that is not known is none: nothing but the centre is drawn.
    once = drawn["query", "r64"]
    assert once.low == once.centre == once.high
    assert rows["rate"].cells["r65"].verdict is Verdict.EQUIVALENT
    assert Signs().of(rows["stutters"].cells["r64"]) == "▼"


def test_every_part_of_the_report_has_a_title_of_its_own() -> None:
    for names in ([part.title for part in PARTS], [part.key for part in PARTS]):
        assert len(names) == len(set(names))


@pytest.mark.parametrize("schedule", ["rounds", "once"])
def test_the_page_has_the_order_that_happened(
    small_study: Callable[..., Ferocal], schedule: str
) -> None:
    ferocal = small_study(rounds=2)
    if schedule == "once":
        text = (ferocal.directory / "study.toml").read_text()
        ferocal.write(text.replace("rounds = 2", 'schedule = "once"\nvisits = 2'))
    ferocal.quick("measure", "--configuration", "on")
    ferocal.quick("measure")
    ferocal.quick("report")
    page = (ferocal.directory / "report.html").read_text(encoding="utf-8")
    table = page[page.index("order of the visits") :].partition("</table>")[0]
    rows = re.findall(r'<td class="n ">(\d+)</td><td class="">(.*?)</td>', table)
    if schedule == "once":
        assert rows == [("2", "on"), ("2", "off")]
    else:
        assert rows == [("1", "on"), ("2", "on"), ("1", "off"), ("2", "off")]
        assert "2 of 2 rounds are split: interrupted, and resumed later." in page
