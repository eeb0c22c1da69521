"""Print docs/tables.md from the tables of the code.

Run it with `python docs/make_tables.py > docs/tables.md` when a table has changed.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable, Sequence

from ferocal.analysis.caveats.table import CAVEATS
from ferocal.documents.caveats.words import WORDS
from ferocal.documents.report import PARTS
from ferocal.intake.formats import FORMATS
from ferocal.study.sources import SOURCES
from ferocal.terms.conditions import CONDITIONS
from ferocal.terms.units import QUANTITIES
from ferocal.traces.capture import Channel, TraceSpec
from ferocal.traces.kinds import KINDS


def table(heads: Sequence[str], rows: Iterable[Sequence[str]]) -> list[str]:
    """A Markdown table."""
    lines = ["| " + " | ".join(heads) + " |", "|" + "---|" * len(heads)]
    return [*lines, *("| " + " | ".join(row) + " |" for row in rows), ""]


def code(words: Iterable[str]) -> str:
    """Words as code, separated by commas."""
    return ", ".join(f"`{word}`" for word in words)


def caveats() -> list[str]:
    """Every caveat: when it appears and what to do."""
    rows = []
    for code, kind in CAVEATS.items():
        name = f"`{code}`{' *' if kind.statistical else ''}"
        rows.append((name, kind.weight, WORDS[code].meaning, WORDS[code].advice))
    return table(("code", "weight", "when", "what to do"), rows)


def kinds() -> list[str]:
    """Every kind of trace with its parts."""
    rows = []
    for kind in KINDS.values():
        channel = Channel("second", "its unit", "none", "second")
        spec = TraceSpec("unit", "higher", limit=1.0, channels=(channel,), long=2400.0)
        for part in kind.parts(spec):
            unit = "its own" if part.unit == "unit" else part.unit
            role = "that of the trace" if part.leads else "detail"
            if part.better == "none":
                role = "context"
            rows.append((f"`{kind.name}`", f"`{part.name}`", part.label, unit, role))
    return table(("kind", "part", "called", "unit", "role unless stated"), rows)


def main() -> None:
    """Print the page."""
    lines = [
        "# Tables",
        "",
        "What repeats has one table in the code, from which this page is made "
        "(`docs/make_tables.py`).",
        "",
        "## Caveats",
        "Those that forbid a conclusion come first in every output, then those that weaken one, "
        "then those that inform. A * marks those that come from a test on noisy readings.",
        "",
        *caveats(),
        "## Kinds of traces",
        *kinds(),
        "## Sources of metrics",
        *table(
            ("source", "reads", "units"),
            ((f"`{s.key}`", s.meaning, code(s.units) or "any") for s in SOURCES.values()),
        ),
        "## Formats of files",
        *table(("format", "names end in"), ((f.name, code(f.suffixes)) for f in FORMATS)),
        "## Units",
        *table(
            ("quantity", "units", "usually better"),
            (
                (q.name, code(q.units), "lower" if q.lower_is_better else "higher")
                for q in QUANTITIES
            ),
        ),
        "## Conditions",
        *table(
            ("key", "called", "smallest difference that matters"),
            ((f"`{c.key}`", c.label, f"{c.least:g}") for c in CONDITIONS.values()),
        ),
        "## Parts of the report",
        "After the answer, the overview and the caveats, where the study has something for them: "
        + ", ".join(f"{part.title} (`{part.key}`)" for part in PARTS)
        + ".",
    ]
    sys.stdout.write("\n".join(lines).rstrip() + "\n")


if __name__ == "__main__":
    main()
