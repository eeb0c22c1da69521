"""The sections of the report, one entry each, in the order of the page."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from ferocal.render import across, numbers, ranking, references, releases
from ferocal.render.answer import answer_lines
from ferocal.render.caveats import group_caveats
from ferocal.render.claims import claim_lines, claim_remarks, headline
from ferocal.render.factors import (
    heading_of,
    interaction_sentences,
    level_lines,
    part_lines,
    remarks_of,
    scaling_lines,
)
from ferocal.render.gaps import gap_lines, legend
from ferocal.render.notes import note_text
from ferocal.render.page_overview import page_overview
from ferocal.render.remarks import corrected_lines
from ferocal.render.runs import set_aside_lines
from ferocal.render.tables import group_by_series, with_gaps
from ferocal.terms.numbers import unbroken

if TYPE_CHECKING:
    from ferocal.answers.report import Report

# So many signs fit a line of the answer on a page.
_WIDTH = 126


@dataclass(frozen=True)
class Section:
    """A part of the page: its title and a Jinja template, given the report as ``r``.

    A section ``of_bench`` stands once for every bench, with its name as ``bench``; an empty
    title has no heading. ``values`` are further variables of the template, from the report and
    the bench; a section that has none of them to show is left out where they are None.
    """

    name: str
    title: str
    template: str
    values: Callable[[Report, str], dict[str, Any] | None]
    of_bench: bool = False


def _overview(report: Report, bench: str) -> dict[str, Any] | None:
    overview = page_overview(report.comparison.on_bench(bench))
    return {"overview": overview} if overview.rows else None


def _effects(report: Report, bench: str) -> dict[str, Any]:
    comparison = report.comparison.on_bench(bench)
    return {
        "groups": group_by_series(comparison.effects),
        "interval_name": numbers.interval_name(comparison.confidence),
        "gaps": gap_lines(comparison.gaps, comparison.baseline),
    }


def _caveats(report: Report, bench: str) -> dict[str, Any] | None:
    groups = group_caveats(report.comparison.on_bench(bench).effects, report.comparison.levels)
    return {"groups": groups} if groups else None


def _readings(report: Report, bench: str) -> dict[str, Any]:
    table = report.table
    names = [name for name, _ in report.configurations]
    gaps = [gap for gap in table.gaps if gap.bench == bench]
    rows = [row for row in table.cells[bench] if any(row)]
    return {
        "rows": [(next(c for c in row if c).series, with_gaps(row, gaps, names)) for row in rows],
        "legend": legend(gaps),
    }


def _nothing_more(report: Report, bench: str) -> dict[str, Any]:
    return {}


def _procedure(report: Report, bench: str) -> dict[str, Any]:
    return {
        "corrected": corrected_lines(report.comparison.corrected),
        "set_aside": set_aside_lines(report.procedure.set_aside),
    }


def _notes(report: Report, bench: str) -> dict[str, Any] | None:
    notes = report.procedure.notes
    return {"notes": [f"{at[:10]}, {note_text(note)}" for at, note in notes]} if notes else None


def _factors(report: Report, bench: str) -> dict[str, Any] | None:
    found = [] if report.factors is None else report.factors.benches
    known = next((b for b in found if b.bench == bench and b.effects), None)
    if known is None:
        return None
    scaling = [line for s in known.scaling for line in scaling_lines(s)]
    return {
        "levels": list(level_lines(known)),
        "acting": list(interaction_sentences(known.interactions)),
        "heading": heading_of(known.decomposition),
        "parts": part_lines(known.decomposition, detail=True),
        "scaling": scaling,
        "minds": remarks_of(known, detail=True),
    }


def _claims(report: Report, bench: str) -> dict[str, Any] | None:
    answer = report.claims
    if answer is None:
        return None
    return {
        "headline": headline(answer),
        "claims": [
            (str(f.judged.verdict), f.name, f.claim.says, list(claim_lines(f, detail=True)))
            for f in answer.findings
        ],
        "minds": list(claim_remarks(answer)),
    }


def _answer(report: Report, bench: str) -> dict[str, Any]:
    comparison = report.comparison.on_bench(bench)
    return {"lines": [(head, unbroken(text)) for head, text in answer_lines(comparison, _WIDTH)]}


def _chart(report: Report, bench: str) -> dict[str, Any] | None:
    chart = next((chart for chart in report.charts if chart.bench == bench), None)
    if chart is None:
        return None
    from ferocal.render.chart_figure import can_be_drawn, chart_figure
    from ferocal.render.trace_figures import figure_svg

    return {"svg": figure_svg(chart_figure(chart))} if can_be_drawn(chart) else None


def _series(report: Report, bench: str) -> dict[str, Any] | None:
    answer = report.series
    if answer is None:
        return None
    from ferocal.render.release_figures import series_figure
    from ferocal.render.trace_figures import figure_svg

    benches = list(dict.fromkeys(value.bench for value in answer.values))
    return {
        "factor": answer.factor,
        "several": len(benches) > 1,
        "benches": [
            (name, list(releases.step_lines(answer, name)), list(releases.notes_of(answer, name)))
            for name in benches
        ],
        "minds": list(releases.remarks_of(answer)),
        "svg": figure_svg(series_figure(answer)),
    }


def _across(report: Report, bench: str) -> dict[str, Any] | None:
    answer = report.across
    if answer is None:
        return None
    return {
        "leads": list(across.lead_lines(answer)),
        "changes": [across.change_sentence(change) for change in answer.changes],
        "minds": list(across.remarks_of(answer)),
    }


def _ranking(report: Report, bench: str) -> dict[str, Any] | None:
    answer = report.ranking
    if answer is None:
        return None
    return {
        "fields": [
            (
                field.place,
                list(ranking.answer_sentences(field, answer)),
                ranking.ranking_name(field.main, answer),
                [f"per {name}" for name in field.per_resource],
                list(ranking.main_rows(field, answer)),
            )
            for field in answer.fields
        ],
        "several": len(answer.fields) > 1,
        "minds": list(ranking.remarks_of(answer)),
    }


def _references(report: Report, bench: str) -> dict[str, Any] | None:
    answer = report.references
    if answer is None or not answer.standings:
        return None
    return {
        "metrics": [
            (
                standings.series,
                list(references.stand_lines(standings)),
                [
                    (entry.reference is None, [str(cell) for cell in references.entry_row(entry)])
                    for entry in standings.entries
                ],
            )
            for standings in answer.standings
        ]
    }


SECTIONS: tuple[Section, ...] = (
    Section(
        "answer",
        "",
        """
<div class="answer">
{% for head, text in lines %}
<p>{% if head %}<b>{{ head }}</b> {% endif %}{{ text }}</p>
{% endfor %}
</div>
""",
        _answer,
        of_bench=True,
    ),
    Section("overview", "", "{% include 'overview.html' %}", _overview, of_bench=True),
    Section(
        "factors",
        "Which factor did it",
        """
{% for head, text in levels %}
<p><b>{{ head }}</b> {{ text }}</p>
{% endfor %}
{% for text in acting %}<p>{{ text }}</p>{% endfor %}
{% if parts %}
<p><b>{{ heading }}</b></p>
<ul>
{% for text in parts %}<li>{{ text }}</li>{% endfor %}
</ul>
{% endif %}
{% if scaling %}
<ul>
{% for text in scaling %}<li>{{ text }}</li>{% endfor %}
</ul>
{% endif %}
{% for text in minds %}<p>{{ text }}</p>{% endfor %}
""",
        _factors,
        of_bench=True,
    ),
    Section(
        "chart",
        "At a glance",
        """<div class="scroll">{{ svg | safe }}</div>
""",
        _chart,
        of_bench=True,
    ),
    Section(
        "series",
        "Over the releases",
        """
{% for name, lines, notes in benches %}
{% if several %}<p><b>{{ name }}</b></p>{% endif %}
{% for head, text in lines %}
<p>{% if head %}<b>{{ head }}</b> {% endif %}{{ text }}</p>
{% endfor %}
{% for text in notes %}<p>{{ text }}</p>{% endfor %}
{% endfor %}
<div class="scroll">{{ svg | safe }}</div>
{% for text in minds %}<p class="note">{{ text }}</p>{% endfor %}
""",
        _series,
    ),
    Section(
        "across",
        "Across benches",
        """
{% for head, text in leads %}<p><b>{{ head }}</b> {{ text }}</p>{% endfor %}
{% for text in changes %}<p>{{ text }}</p>{% endfor %}
{% for text in minds %}<p class="note">{{ text }}</p>{% endfor %}
""",
        _across,
    ),
    Section(
        "ranking",
        "Ranking",
        """
{% for place, sentences, by, resources, rows in fields %}
{% if several %}<p><b>{{ place }}</b></p>{% endif %}
{% for text in sentences %}<p>{{ text }}</p>{% endfor %}
<div class="scroll">
<table>
<thead><tr><th class="n">rank</th><th></th><th class="n">{{ by }}</th>
<th class="n">chance of being first</th>
{% for name in resources %}<th class="n">{{ name }}</th>{% endfor %}</tr></thead>
<tbody>
{% for row in rows %}
<tr>{% for cell in row %}<td{{ ' class="n"' | safe if loop.index != 2 }}>{{ cell }}</td>{% endfor %}
</tr>
{% endfor %}
</tbody>
</table>
</div>
{% endfor %}
{% for text in minds %}<p class="note">{{ text }}</p>{% endfor %}
""",
        _ranking,
    ),
    Section(
        "references",
        "From elsewhere",
        """
{% for s, sentences, rows in metrics %}
{% for text in sentences %}<p>{{ text }}</p>{% endfor %}
{% if rows | length > 20 %}<details><summary>all {{ rows | length }}</summary>{% endif %}
<div class="scroll">
<table>
<thead><tr><th></th><th>{{ s.title }}</th><th class="n">{{ s.unit }}</th><th>source</th>
<th>date</th><th>retrieved</th></tr></thead>
<tbody>
{% for ours, cells in rows %}
<tr>{% for cell in cells %}<td{{ ' class="n"' | safe if loop.index == 3 }}>
{%- if ours %}<b>{{ cell }}</b>{% else %}{{ cell }}{% endif %}</td>{% endfor %}</tr>
{% endfor %}
</tbody>
</table>
</div>
{% if rows | length > 20 %}</details>{% endif %}
{% endfor %}
<p class="note">◇ from elsewhere: no runs are behind it, and it is in no verdict.</p>
""",
        _references,
    ),
    Section(
        "effects",
        "Effects",
        """
<div class="scroll">
<table>
<thead><tr><th>configuration</th><th class="n">change</th><th class="n">{{ interval_name }}</th>
<th>verdict</th><th class="n">adjusted p</th><th>evidence</th><th class="n">runs</th></tr></thead>
<tbody>
{% set section = namespace(name="") %}
{% for group in groups %}
{% set s = group[0].series %}
{% if s.group != section.name %}
<tr><th colspan="7">{{ s.group }}</th></tr>
{% set section.name = s.group %}
{% endif %}
<tr><th colspan="7">{{ s.workload }} <span>{{ s | series }}; margin {{ s | series_margin -}}
{{ "; " ~ s.role }}</span></th></tr>
{% for e in group %}
<tr><td>{{ e.configuration }}</td><td class="n">{{ e | change }}</td>
<td class="n">{{ e | interval }}</td><td class="{{ e.verdict }}">{{ e | verdict }}</td>
<td class="n">{{ e.p_adjusted | p_value }}</td>
<td>{{ e | evidence }}</td><td class="n">{{ e.runs }}</td></tr>
{% endfor %}
{% endfor %}
</tbody>
</table>
</div>
{% for line in gaps %}<p class="note">{{ line[0] | upper }}{{ line[1:] }}.</p>
{% endfor %}
""",
        _effects,
        of_bench=True,
    ),
    Section(
        "caveats",
        "Caveats",
        """
<ul>
{% for group in groups %}
<li><code>{{ group.code }}</code> {{ group.advice }}
<ul>
{% for where, seen in group.seen %}
<li>{{ where }}: {{ seen }}</li>
{% endfor %}
</ul></li>
{% endfor %}
</ul>
""",
        _caveats,
        of_bench=True,
    ),
    Section(
        "readings",
        "Readings",
        """
<div class="scroll">
<table>
<thead><tr><th>workload</th><th>metric</th>
{% for name, _ in r.configurations %}<th class="n">{{ name }}</th>{% endfor %}</tr></thead>
<tbody>
{% set section = namespace(name="") %}
{% for s, row in rows %}
{% if s.group != section.name %}
<tr><th colspan="2">{{ s.group }}</th></tr>
{% set section.name = s.group %}
{% endif %}
<tr><td>{{ s.workload if loop.first or rows[loop.index0 - 1][0].workload != s.workload }}</td>
<td>{{ s.metric }}, {{ s.unit }}</td>
{% for cell in row %}<td class="n">{{ cell | cell }}</td>{% endfor %}</tr>
{% endfor %}
</tbody>
</table>
</div>
<p class="note">Centre of the visits, ± coefficient of variation of single runs, number of runs
in brackets{{ "; " ~ legend if legend }}.</p>
""",
        _readings,
        of_bench=True,
    ),
    Section(
        "claims",
        "Claims",
        """
<p>{{ headline }}</p>
<ul>
{% for verdict, name, says, lines in claims %}
<li><b>{{ verdict }}</b> {{ name }}: “{{ says }}”
<ul>
{% for line in lines %}<li>{{ line }}</li>{% endfor %}
</ul></li>
{% endfor %}
</ul>
{% for text in minds %}<p>{{ text }}</p>{% endfor %}
""",
        _claims,
    ),
    Section(
        "configurations",
        "Configurations",
        """
<dl>
{% for name, levels in r.configurations %}
<dt>{{ name }}{{ " (baseline)" if name == r.comparison.baseline }}</dt>
<dd>{% for factor, level in levels.items() -%}
{{ factor }} = {{ level }}{{ ", " if not loop.last }}{% endfor %}</dd>
{% endfor %}
</dl>
""",
        _nothing_more,
    ),
    Section(
        "bench",
        "Bench {bench}",
        """
<dl>
{% for kind, name, value in r.facts[bench] %}
<dt>{{ name }}</dt><dd>{{ value }}</dd>
{% endfor %}
</dl>
""",
        _nothing_more,
        of_bench=True,
    ),
    Section(
        "procedure",
        "How it was measured",
        """
{% set p = r.procedure %}
<p>{{ p.outcomes.values() | sum }} runs ({% for outcome, count in p.outcomes.items() -%}
{{ count }} {{ outcome }}{{ ", " if not loop.last }}{% endfor %}),
{{ p.runs_per_visit }} per workload and visit{{ p.when }}.
{% for sentence in p.design %}{{ sentence }}
{% endfor %}
{% if r.comparison.excluded %}{{ r.comparison.excluded }} runs are excluded. {% endif %}
{% if r.comparison.left_out %}{{ r.comparison.left_out }} readings of workloads, metrics,
configurations or benches that the study file no longer names are left out.{% endif %}
{% for change in r.comparison.criteria_changes %}
Criteria changed: {{ change.text }}.
{% endfor %}
{% for change in r.comparison.study_changes %}
Changed since measuring began: {{ change.text }}.
{% endfor %}</p>
{% if corrected %}
<p>Readings that were corrected:</p>
<ul>
{% for line in corrected %}<li>{{ line }}</li>{% endfor %}
</ul>
{% endif %}
{% if set_aside %}
<p>Visits that do not count, for a check failed:</p>
<ul>
{% for line in set_aside %}<li>{{ line }}</li>{% endfor %}
</ul>
{% endif %}
{% for bench, order in p.order.items() %}
<div class="scroll">
<table>
<thead><tr><th class="n">{{ p.order_title }}</th><th>order of the visits
{{- " to " ~ bench if p.order | length > 1 }}</th></tr></thead>
<tbody>
{% for number, names in order %}
<tr><td class="n">{{ number }}</td><td>{{ names | join(" → ") }}</td></tr>
{% endfor %}
</tbody>
</table>
</div>
{% endfor %}
{% if p.checks %}
<p>Checks that held, with the visit that they prove:</p>
<ul>
{% for level, expected, times in p.checks %}
<li>{{ level }}: {{ expected }}, held {{ times }} times</li>
{% endfor %}
</ul>
{% endif %}
{% if p.failures %}
<p>Runs without valid readings:</p>
<ul>
{% for line in p.failures %}<li>{{ line }}</li>{% endfor %}
</ul>
{% endif %}
{% if p.remarks %}
<p>Remarks while measuring:</p>
<ul>
{% for line in p.remarks %}<li>{{ line }}</li>{% endfor %}
</ul>
{% endif %}
""",
        _procedure,
    ),
    Section(
        "notes",
        "Notes",
        """
<ul>
{% for line in notes %}<li>{{ line }}</li>{% endfor %}
</ul>
""",
        _notes,
    ),
)
