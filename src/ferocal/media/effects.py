"""Effects for other programs: a table, and test results that pipelines know."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING
from xml.etree import ElementTree

from ferocal.analysis.inference.verdicts import Verdict
from ferocal.documents.frames import effects_frame
from ferocal.documents.numbers import change_with_half
from ferocal.documents.wording import verdict_text
from ferocal.media.readings import csv_text
from ferocal.terms.signs import visible

if TYPE_CHECKING:
    from ferocal.analysis.inference.effects import Effect
    from ferocal.answers.compare import Comparison


def csv(comparison: Comparison) -> str:
    """Every effect as a row of CSV (RFC 4180)."""
    return csv_text(effects_frame(comparison)).decode()


def junit(comparison: Comparison) -> str:
    """Test results in the XML that build servers read: a suite for each configuration and bench.

    A case for every effect: what is worse failed, what could not be compared is an error, and what
    is not decided was skipped.
    """
    root = ElementTree.Element("testsuites", name=visible(comparison.question))
    places = dict.fromkeys((e.bench, e.configuration) for e in comparison.effects if not e.control)
    for bench, name in places:
        own = [
            e
            for e in comparison.effects
            if (e.bench, e.configuration) == (bench, name) and not e.control
        ]
        counts = {tag: sum(_tag_of(e) == tag for e in own) for tag in _ATTRIBUTES}
        title = visible(f"{name} against {comparison.baseline} on {bench}")
        told = {"name": title, "tests": str(len(own))}
        told |= {_ATTRIBUTES[tag]: str(count) for tag, count in counts.items()}
        suite = ElementTree.SubElement(root, "testsuite", told)
        for effect in own:
            _case(suite, effect)
    ElementTree.indent(root)
    text = ElementTree.tostring(root, encoding="unicode")
    return f'<?xml version="1.0" encoding="UTF-8"?>\n<!-- Ferocal -->\n{text}\n'


def _case(suite: ElementTree.Element, effect: Effect) -> None:
    name = visible(f"{effect.series.title} {change_with_half(effect)}".strip())
    place = visible(f"{effect.bench}.{effect.configuration}.{effect.series.workload}")
    case = ElementTree.SubElement(suite, "testcase", classname=place, name=name)
    tag = _tag_of(effect)
    if tag:
        low, high = effect.low, effect.high
        known = math.isfinite(low) and math.isfinite(high)
        span = f", interval {low:.6g} to {high:.6g}" if known else ""
        text = f"change {effect.change:.6g}{span} ({effect.scale})"
        ElementTree.SubElement(case, tag, message=visible(verdict_text(effect))).text = text


# What becomes of a case by its verdict, and the attribute of the suite that counts these.
_ATTRIBUTES = {"failure": "failures", "error": "errors", "skipped": "skipped"}
_TAGS = {
    Verdict.WORSE: "failure",
    Verdict.NOT_COMPARABLE: "error",
    Verdict.INCONCLUSIVE: "skipped",
    Verdict.SEEN_ONCE: "skipped",
    Verdict.NOT_JUDGED: "skipped",
}


def _tag_of(effect: Effect) -> str:
    return _TAGS.get(effect.verdict, "")


WRITERS = {"csv": csv, "junit": junit}
