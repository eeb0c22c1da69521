"""The answer: thirty small studies, and what a careful colleague would say of each."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from ferocal.analysis.caveats.kinds import Caveat
from ferocal.analysis.caveats.table import CAVEATS
from ferocal.documents.answer import WIDTH, answer_lines
from ferocal.documents.caveats.remarks import group_caveats, make_remarks
from ferocal.documents.next_steps import next_steps
from studies import make_study, with_caveats

# By name: metrics with their effects, the answer, and the first thing to do next.
STUDIES: dict[str, tuple[str, list[str], str]] = {
    "one better": (
        "flight/- fps higher | r64 +9.1±1.5",
        [
            "r64: better: flight +9.1 %",
        ],
        "write the report: ferocal report",
    ),
    "one worse": (
        "flight/- fps higher | r64 -4.2±1.1",
        [
            "r64: worse: flight −4.2 %",
        ],
        "write the report: ferocal report",
    ),
    "one equal": (
        "flight/- fps higher | r64 +0.3±1.0",
        [
            "No change beyond ±2 % in flight with r64 against r61.",
        ],
        "write the report: ferocal report",
    ),
    "one open": (
        "flight/- fps higher | r64 +3.0±5.0 4 more",
        [
            "Inconclusive: flight with r64, +3 %. About 4 more rounds (4 min) should settle it.",
        ],
        "about 4 more rounds (4 min) should settle the inconclusive comparison: ferocal "
        "measure --rounds 9",
    ),
    "one out of reach": (
        "flight/- fps higher | r64 +0.9±1.6 beyond",
        [
            "Inconclusive: flight with r64, +0.9 %. More than 100 rounds would be needed to "
            "settle this.",
        ],
        "the inconclusive comparisons are out of reach: lengthen the workloads, or accept a "
        "wider margin",
    ),
    "one small": (
        "flight/- fps higher | r64 +2.1±0.8 small",
        [
            "r64: better: flight +2.1 % (may be smaller than the margin)",
        ],
        "write the report: ferocal report",
    ),
    "less time": (
        "load/- s lower | r64 -6.6±1.4",
        [
            "r64: better: load −6.6 %",
        ],
        "write the report: ferocal report",
    ),
    "halved rate large": (
        "flight/- fps higher | r64 -75±5",
        [
            "r64: worse: flight −75 % (× 0.25)",
        ],
        "write the report: ferocal report",
    ),
    "factor": (
        "query/- 1/s higher | r64 +320±20",
        [
            "r64: better: query +320 % (× 4.20)",
        ],
        "write the report: ferocal report",
    ),
    "nothing differs, primaries": (
        """
        flight/rate fps higher primary | r64 +0.3±1.0 | r65 -0.2±0.9
        flight/low fps higher primary | r64 +0.1±1.2 | r65 +0.0±0.9
        query/- 1/s higher | r64 -0.4±1.0 | r65 +0.5±1.1
        """,
        [
            "No change beyond ±2 % in any of 3 metrics (2 primary) with r64 or r65 against r61.",
        ],
        "write the report: ferocal report",
    ),
    "primaries equal, a secondary worse": (
        """
        flight/- fps higher primary | r64 +0.3±1.0
        query/- 1/s higher | r64 -5.0±1.0
        """,
        [
            "r64: no change beyond ±2 % in flight; others: worse query −5.0 %",
        ],
        "write the report: ferocal report",
    ),
    "all open": (
        """
        flight/- fps higher primary | r64 +3.0±5.0 4 more | r65 +2.0±4.0 6 more
        query/- 1/s higher primary | r64 -3.0±4.0 40 more | r65 -1.0±5.0 beyond
        """,
        [
            "Inconclusive: all 4 comparisons with r61. About 6 more rounds (6 min) should settle "
            "2 of 4 inconclusive comparisons.",
        ],
        "about 6 more rounds (6 min) should settle 2 of 4 inconclusive comparisons: ferocal "
        "measure --rounds 11",
    ),
    "until a look": (
        """
        flight/- fps higher primary | r64 +3.0±5.0 look 8
        query/- 1/s higher primary | r64 -3.0±4.0 look 8
        """,
        [
            "Inconclusive: both comparisons with r61. The next look is after round 8 (3 min).",
        ],
        "measure until the look after round 8 (3 min): ferocal measure --decide",
    ),
    "open for ever": (
        """
        flight/- fps higher | r64 +0.9±1.6 beyond
        query/- 1/s higher | r64 +1.1±1.9 beyond
        """,
        [
            "Inconclusive: both comparisons with r61. More than 100 rounds would be needed to "
            "settle this.",
        ],
        "the inconclusive comparisons are out of reach: lengthen the workloads, or accept a "
        "wider margin",
    ),
    "primary before secondary": (
        """
        query/- 1/s higher | r64 +40±2
        flight/- fps higher primary | r64 +3.1±0.8
        """,
        [
            "r64: better: flight +3.1 %; others: better query +40.0 %",
        ],
        "write the report: ferocal report",
    ),
    "better, worse, equivalent and inconclusive": (
        """
        flight/rate fps higher | r64 +9.1±1.5
        flight/low fps higher | r64 -3.0±5.0 3 more
        query/- 1/s higher | r64 -4.0±1.0
        boot/- s lower | r64 +0.2±0.9
        """,
        [
            "r64: better: rate +9.1 %; worse: query −4.0 %; equivalent: boot; inconclusive: low",
        ],
        "about 3 more rounds (3 min) should settle the inconclusive comparison: ferocal "
        "measure --rounds 8",
    ),
    "scales never mixed": (
        """
        flight/- fps higher | r64 +4.0±1.0
        input/delay ms lower by 1 | r64 -12±2
        boot/- s lower | r64 -40±2
        """,
        [
            "r64: better: boot −40.0 %, flight +4.0 %, delay −12.0 ms",
        ],
        "write the report: ferocal report",
    ),
    "two configurations, the better one first": (
        """
        flight/- fps higher primary | r64 -3.1±0.9 | r65 +5.2±1.0
        boot/- s lower primary | r64 +0.2±0.9 | r65 -0.3±1.0
        """,
        [
            "r65: better: flight +5.2 %; equivalent: boot",
            "r64: worse: flight −3.1 %; equivalent: boot",
        ],
        "write the report: ferocal report",
    ),
    "a trade-off": (
        """
        flight/frame rate fps higher primary | r64 +9.1±1.5
        flight/stutters 1/min lower detail | r64 +209±60
        """,
        [
            "r64: better: frame rate +9.1 %",
            "But under r64, flight trades better frame rate for worse stutters (× 3.1).",
        ],
        "write the report: ferocal report",
    ),
    "a trade-off that a level brings": (
        """
        flight/frame rate fps higher primary | r61+vulkan +9.1±1.5 | r64 +6±1 | r64+vulkan +15.7±1.9
        flight/stutters 1/min lower detail | r61+vulkan +209±60 | r64 +0.0±22 | r64+vulkan +186±59
        """,
        [
            "r64+vulkan: better: frame rate +15.7 %",
            "r61+vulkan: better: frame rate +9.1 %",
            "r64: better: frame rate +6.0 %",
            "But under vulkan (r61+vulkan, r64+vulkan), flight trades better frame rate for worse"
            " stutters (× 3.1 and +186 %).",
        ],
        "write the report: ferocal report",
    ),
    "a detail that gets clearly worse": (
        """
        boot/- s lower primary | r64 -0.1±0.8
        soak/depth % lower detail | r64 +12.0±3.0
        """,
        [
            "r64: no change beyond ±2 % in boot; others: worse soak depth +12 %",
        ],
        "write the report: ferocal report",
    ),
    "a detail comes after what decides, however large it is": (
        """
        boot/- s lower | r64 +6.1±0.8
        soak/depth % lower detail | r64 +12.0±3.0
        """,
        ["r64: worse: boot +6.1 %, soak depth +12 %"],
        "write the report: ferocal report",
    ),
    "details are not spoken of": (
        """
        boot/- s lower primary | r64 -6.1±0.8
        soak/depth % lower detail | r64 -12.0±3.0
        """,
        [
            "r64: better: boot −6.1 %",
        ],
        "write the report: ferocal report",
    ),
    "seen once": (
        """
        kiosk/score points higher | r64 -2.6
        kiosk/start s lower | r64 +7.5
        """,
        [
            "r64: seen once: start +7.5 %, score −2.6 %",
            "One visit per configuration: these changes cannot be told from noise.",
        ],
        "visit one configuration three times to measure the noise between visits",
    ),
    "noise as stated": (
        "kiosk/score points higher | r64 -5.6±1.0 stated",
        [
            "r64: worse: score −5.6 % (stated noise)",
        ],
        "write the report: ferocal report",
    ),
    "a bound": (
        "storage/- MB/s higher | r64 >+14.5",
        [
            "r64: better: storage >+14.5 %",
        ],
        "write the report: ferocal report",
    ),
    "context alone": (
        "room/temperature °C none context | r64 +0.4±0.2",
        [
            "No verdict: none of these metrics has a direction that counts as better.",
        ],
        "write the report: ferocal report",
    ),
    "the control arm is not nil": (
        "flight/- fps higher | control +3.0±1.0 | r64 +9.1±1.5",
        [
            "The bench does not agree with itself: the control arm (r61 again) changes flight by "
            "+3.0 %. Explain that before trusting anything below.",
            "r64: better: flight +9.1 %",
        ],
        "find out what changes between two visits to the same configuration: ferocal compare "
        "--detail --configuration control",
    ),
    "nothing yet": (
        "flight/- fps higher | control +0.0±1.0",
        [
            "Nothing to compare yet: no metric was measured with both r61 and another "
            "configuration.",
        ],
        "",
    ),
    "six configurations": (
        "\n".join(
            f"w{n}/- fps higher primary | a {'+' if n < 4 else '-'}5±1 | b +{n}.5±{1 + n / 5} "
            f"| c +0.1±1 | d -0.1±1 | e -{n + 3}±1 | f +1±{n + 3} 3 more"
            for n in range(6)
        ),
        [
            "b: better: w5 +5.5 %, w4 +4.5 %, w3 +3.5 %, w2 +2.5 %, w1 +1.5 %; equivalent: w0",
            "a: better: w0 +5.0 %, w1 +5.0 %, w2 +5.0 %, w3 +5.0 %; worse: w4 −5.0 %, w5 −5.0 %",
            "c and d: no change beyond ±2 % in any of 6 primary metrics",
            "2 other configurations: 6 worse, 6 inconclusive",
        ],
        "about 3 more rounds (3 min) should settle the 6 inconclusive comparisons: ferocal "
        "measure --rounds 8",
    ),
    "many metrics fit a line": (
        "\n".join(
            f"workload-{n}/- fps higher | r64 {'+' if n % 3 else '-'}{n + 5}.0±1.0"
            for n in range(20)
        ),
        [
            "r64: better: workload-19 +24.0 %, workload-17 +22.0 %, 11 more; "
            "worse: workload-18 −23.0 %, workload-15 −20.0 %, 5 more",
        ],
        "write the report: ferocal report",
    ),
    "loaded once more": (
        "flight/- fps higher | r64 +3.0±5.0 4 more",
        [
            "Inconclusive: flight with r64, +3 %. About 4 more visits to each side should settle "
            "it.",
        ],
        "about 4 more visits to each side should settle the inconclusive comparison: ferocal "
        "load FILE",
    ),
}


@pytest.mark.parametrize("name", STUDIES)
def test_the_answer_says_what_a_careful_colleague_would(name: str) -> None:
    text, sentences, step = STUDIES[name]
    study = make_study(text, replicates="visits" if name == "loaded once more" else "rounds")
    lines = answer_lines(study)
    assert [f"{x.head}: {x.text}" if x.head else x.text for x in lines] == sentences
    steps = [": ".join(filter(None, found)) for found in next_steps(study)]
    assert steps[:1] == ([step] if step else [])
    # Whichever way round a question is put, no answer to it begins with yes or no.
    assert not sentences[0].lower().startswith(("yes", "no:", "no,"))
    assert all(len(line.text) <= WIDTH for line in lines if line.head)
    assert sum(bool(line.head) for line in lines) <= 4


def test_what_does_not_decide_gives_way_to_a_narrow_screen_unless_it_gets_worse() -> None:
    study = """
        flight/- fps higher primary | r64 +9.1±1.5 | r65 +3.0±0.5
        query/rate 1/s higher | r64 +4.0±1.0 | r65 +4.0±1.0
        query/latency ms lower | r64 -4.0±1.0 | r65 +4.0±1.0
        """
    whole = ["better: flight +9.1 %; others: 2 better", "better: flight +3.0 %; others: worse "
             "latency +4.0 %, better rate +4.0 %"]  # fmt: skip
    better, worse = whole
    for screen, expected in ((0, whole), (120, whole), (35, [better.split("; o")[0], worse])):
        lines = [x for x in answer_lines(make_study(study)) if not x.text.startswith("But")]
        shown = [
            next((text for text in line.shorter if 0 < screen < len(line.text) and
                  len(text) <= screen), line.text)
            for line in lines
        ]  # fmt: skip
        assert shown == expected


def test_a_step_is_proposed_only_where_it_can_be_done() -> None:
    open_study = "flight/- fps higher | r64 +3.0±5.0 4 more"
    assert next_steps(make_study(open_study))[0][1] == "ferocal measure --rounds 9"
    assert next_steps(make_study(open_study, replicates="visits"))[0][1] == "ferocal load FILE"
    once = make_study("flight/- fps higher | r64 +3.0", replicates="none")
    assert [command for _, command in next_steps(once)] == ["ferocal noise-floor DIR"]


def test_caveats_that_say_the_same_become_one_sentence_and_the_gravest_comes_first() -> None:
    study = make_study(
        """
        flight/rate fps higher | r61+vulkan +9.1±1.5 | r64 +6.4±1.2 | r64+vulkan +15.7±1.9
        query/- 1/s higher | r61+vulkan +0.1±1.5 | r64 +0.4±1.2 | r64+vulkan +0.7±0.9
        """
    )

    def caveat(code: str, side: str | None = None, amount: float | None = None) -> Caveat:
        values: dict[str, dict[str, Any]] = {
            "one-visit": {"lone": None, "run_sd": None, "floor": None, "stated": False},
            "few-rounds": {"rounds": 2},
            "difference-scale": {"unit": "s"},
        }
        return Caveat(CAVEATS[code], values.get(code, {}), side, amount)

    many = with_caveats(
        study,
        {
            "r61+vulkan": (caveat("short-capture", "r61+vulkan", 900),),
            "r64": (caveat("few-rounds"),),
            "r64+vulkan": (
                caveat("short-capture", "r64+vulkan", 12_000),
                caveat("difference-scale"),
                caveat("one-visit"),
            ),
        },
    )
    compared = many.effects
    assert [f"{remark.text}: {remark.look}" for remark in make_remarks(compared, many.levels)] == [
        "with r64+vulkan: one visit per side; no interval, since the noise between visits is "
        "unknown: ferocal runs",
        "with vulkan (r61+vulkan, r64+vulkan): captures are short (900 to 12\u202f000 frames; "
        "10 000 wanted): rare hitches dominate the lows: ferocal frames",
        "with r64: only 2 paired rounds: ferocal plan",
        "with r64+vulkan: readings may be zero or negative, so the change is a difference in s and "
        "a percentage margin does not apply: ferocal table",
    ]
    short = group_caveats(compared, many.levels)[1]
    assert short.seen[0] == (
        "all",
        "with r61+vulkan, captures are short (900 frames; 10 000 wanted): rare hitches "
        "dominate the lows",
    )
    half = [e for e in compared if e.series.workload == "query" or e.configuration != "r64"]
    assert make_remarks(half, many.levels)[2].text == "query with r64: only 2 paired rounds"


def test_caveats_that_read_the_same_stand_once() -> None:
    """What was seen may differ by less than is shown, such as two gaps of about three days."""
    study = make_study(
        """
        flight/rate fps higher | r64 +6.4±1.2
        query/- 1/s higher | r64 +0.4±1.2
        """
    )
    effects = [
        replace(e, caveats=(Caveat(CAVEATS["not-interleaved"], {"days_apart": gap, "move": None}),))
        for e, gap in zip(study.effects, (3.01, 3.02), strict=True)
    ]
    (group,) = group_caveats(effects, study.levels)
    assert len(group.seen) == 1 and "3 days apart" in group.seen[0][1]
