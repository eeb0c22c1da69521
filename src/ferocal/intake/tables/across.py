"""What the columns of values are called for: configurations, metrics, workloads or runs."""

from __future__ import annotations

import re
import warnings
from collections.abc import Sequence

import numpy as np

from ferocal.intake.tables.options import Across
from ferocal.intake.tables.view import LEFT_OUT, VALUES, Column, View, resolves
from ferocal.intake.tables.words import HeaderCell, is_compared, role_by_name, run_number
from ferocal.terms.names import resolve
from ferocal.terms.wording import listed, shortened


def take_values(view: View) -> None:
    """The columns of values: what they are of, and what their names are the names of."""
    if view.roles.of("value") or view.roles.of(VALUES):
        return
    values = [c for c in view.roles.open if view.is_numeric(c)]
    values = values or [c for c in view.roles.open if _is_known(view, c)]
    values = _leave_out_beside_runs(view, values)
    leads, runs = _runs(view, values)
    tops = [c.header.top for c in values]
    across = _across(view, values, [lead for lead in leads if lead]) if any(leads) else None
    over = _across_tops(view, [top for top in tops if top], across) if any(tops) else None
    if over is not None and over == across:
        across = "metric" if over == "configuration" else "configuration"
    view.roles.across = across or ("run" if runs else over)
    if across == "metric" and not runs and view.options.across is None and not view.known:
        _doubt_numbered(view, leads)
    why = _why_values(across, over, bool(runs))
    bare = [HeaderCell.of(lead).name for lead in leads]
    for n, column in enumerate(values):
        more = {"run": str(runs[n])} if runs else {}
        if across and leads[n]:
            # What differs in its unit alone is called by it.
            alone = sum(a == bare[n] for a in bare) == 1 or runs or any(tops)
            named = alone and (across != "configuration" or column.unit)
            more[across] = bare[n] if named else leads[n]
        if over and tops[n]:
            more[over] = HeaderCell.of(tops[n]).name
        view.roles.set(column, VALUES, why, **more)


def _runs(view: View, values: list[Column]) -> tuple[list[str], list[int]]:
    """Names of columns without the numbers of runs, and these numbers; none if they have none."""
    names = [c.header.name for c in values]
    if view.options.across == "run":
        return [""] * len(values), list(range(1, len(values) + 1))
    found = [run for name in names if (run := run_number(name))]
    if len(values) < 2 or len(found) < len(values) or all(_is_known(view, c) for c in values):
        return names, []
    numbers = [number for _, number in found]
    return ([lead for lead, _ in found], numbers) if _counts(numbers) else (names, [])


def _leave_out_beside_runs(view: View, values: list[Column]) -> list[Column]:
    """The columns of runs alone, where others stand beside these that are none."""
    runs = [c for c in values if run_number(c.header.name)]
    others = [c for c in values if c not in runs]
    known = any(_is_known(view, c) for c in values)
    if len(runs) < 2 or not others or known or any(c.header.top for c in values):
        return values
    for column in others:
        name = column.name
        view.roles.set(column, LEFT_OUT, "stands beside runs, and is none")
        view.roles.doubt(
            f'column "{name}" stands beside runs, and is none',
            "left out",
            f'--ignore "{name}", or --column metric="{name}"',
        )
    return runs


_DATE = re.compile(r"\d{4}-\d\d-\d\d.*|\d{1,2}[./]\d{1,2}[./](?:\d{4}|\d\d)?")


def _doubt_numbered(view: View, names: list[str]) -> None:
    """Metrics that are called alike but for numbers from 1 on, or by dates, may be repeats."""
    if names and all(_DATE.fullmatch(name) for name in names):
        view.roles.doubt(
            f'"{names[0]}" and the like are dates', "metrics", "--across run, or --across metric"
        )
    found = [re.fullmatch(r"(.*?)[\s_-]*(\d{1,9})", name) for name in names]
    leads = {match[1] for match in found if match}
    numbers = [int(match[2]) for match in found if match]
    if len(names) > 1 and len(leads) == 1 and numbers == list(range(1, len(names) + 1)):
        view.roles.doubt(
            f'"{names[0]}" to "{names[-1]}" may be repeats',
            "metrics",
            "--across run, or --across metric",
        )


def _counts(numbers: list[int]) -> bool:
    return min(numbers) in (0, 1) and max(numbers) - min(numbers) < 2 * len(numbers)


def _why_values(across: str | None, over: str | None, repeated: bool) -> str:
    told = [
        f"a {across} per column" if across else "",
        f"a {over} above several" if over else "",
        "a run per column" if repeated else "",
    ]
    return ", ".join(filter(None, told)) or "the only numbers"


def _is_known(view: View, column: Column) -> bool:
    return bool(view.known) and resolves([column.header.name], view.known.configurations)


def _across(view: View, values: list[Column], names: list[str]) -> Across:
    """What the names of columns of values are the names of."""
    if view.options.across is not None and view.options.across != "run":
        return view.options.across
    distinct = list(dict.fromkeys(names))
    of_study: dict[Across, Sequence[str]] = {
        "configuration": view.known.configurations, "metric": view.known.metrics,
        "workload": view.known.workloads,
    }  # fmt: skip
    for kind, known in of_study.items():
        if resolves(distinct, known) or resolves([HeaderCell.of(n).name for n in distinct], known):
            return kind
    if view.known and any(
        resolve(n, view.known.configurations) in view.known.configurations for n in distinct
    ):
        return "configuration"
    found = _across_by_names(view, values, distinct)
    by_numbers, sure = _across_by_numbers(view, values)
    if found is not None and not (found == "metric" and sure and _may_be_turned(view, values)):
        return found
    if found is None:
        found = by_numbers
    else:
        sure = by_numbers == found
    if not sure:
        shown = listed([f'"{shortened(n, 24)}"' for n in distinct[:4]])
        view.roles.doubt(
            f"{shown} may be configurations or metrics",
            f"{found}s",
            "--across configuration or --across metric",
        )
    return found


def _across_by_names(view: View, values: list[Column], names: list[str]) -> Across | None:
    given = {c.role for c in view.roles.columns if c.role}
    lead = next((c for c in view.roles.open if c not in values), None)
    if "configuration" in view.options.named or "configuration" in given:
        return "metric"
    if view.roles.has_factors or (lead and is_compared(lead.header.name)):
        return "metric"
    if "unit" in given or "metric" in given:
        return "configuration"
    units = [c.unit or HeaderCell.of(n).unit for c, n in zip(values, names, strict=False)]
    if any(units) and (len(set(units)) > 1 or len(values) == 1):
        return "metric"
    if "workload" in given or (lead and role_by_name(lead.header.name) == "workload"):
        return "configuration"
    if any(units):
        return "metric" if all(c.states.name in ("", c.unit) for c in values) else None
    if all(is_compared(n.split()[0]) for n in names if n.split()):
        return "configuration"
    return "metric" if len(values) == 1 else None


def _may_be_turned(view: View, values: list[Column]) -> bool:
    """Whether only the word above the names of rows says that these are configurations.

    Some write there what the columns are called for.
    """
    stated = "configuration" in view.options.named or view.options.factors
    units = any(c.unit for c in values) or view.roles.of("configuration")
    several = len(values) > 1 and len(view.layout.body) > 1
    return several and not (stated or units or view.known)


def _across_by_numbers(view: View, values: list[Column]) -> tuple[Across, bool]:
    """Numbers of one row are alike for configurations, those of one column for metrics."""
    table = np.abs(np.stack([view.numbers(c).value for c in values]))
    with np.errstate(all="ignore"):
        logs = np.log(np.where(table > 0, table, np.nan))
    if len(view.layout.body) < 2 or np.isnan(logs).all():
        return "configuration", True
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # of rows and columns without numbers
        along, down = np.nanmean(np.nanvar(logs, axis=0)), np.nanmean(np.nanvar(logs, axis=1))
    if along * 4 < down:
        return "configuration", True
    return ("metric", True) if down * 4 < along and along > 0.5 else ("configuration", False)


def _across_tops(view: View, tops: list[str], below: Across | None) -> Across:
    """What the names over several columns are the names of."""
    distinct = list(dict.fromkeys(tops))
    if below == "configuration":
        return "metric"
    if view.known:
        if resolves(distinct, view.known.workloads):
            return "workload"
        return "metric" if resolves(distinct, view.known.metrics) else "configuration"
    if any(HeaderCell.of(top).unit for top in distinct):
        return "metric"
    return "workload" if view.roles.of("configuration") else "configuration"
