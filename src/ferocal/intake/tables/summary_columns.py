"""Columns that sum up others, number the rows or rank them: left out, and told."""

from __future__ import annotations

from collections.abc import Sequence

from ferocal.intake.tables.summaries import counts_rows, is_change, is_rank, is_telling, sums_up
from ferocal.intake.tables.view import LEFT_OUT, VALUES, Column, View
from ferocal.intake.tables.words import run_number, summaries_of
from ferocal.terms.wording import shortened


def leave_out_summaries(view: View) -> None:
    """Columns that sum up others, number the rows or rank them."""
    if view.roles.of("value"):
        return
    named = {
        c.place: summaries_of(c.header.name) or summaries_of(c.states.name) for c in view.roles.open
    }
    numeric = [c for c in view.roles.open if view.is_numeric(c) or named[c.place]]
    plain = [c for c in numeric if not named[c.place]]
    for column in numeric:
        if named[column.place] and not view.is_kept(column):
            why = _summary(view, column, named[column.place], plain)
            if why:
                view.roles.set(column, LEFT_OUT, why)
            else:
                _doubt_summary(view, column, named[column.place], plain)
    if len(plain) > 2 and len(view.layout.body) >= 3:
        _notice_summary(view, plain)


def notice_changes(view: View) -> None:
    """Columns among those of configurations that are the change of two others."""
    values = view.roles.of(VALUES)
    if view.roles.across != "configuration" or len(values) < 3 or len(view.layout.body) < 2:
        return
    numbers = [view.numbers(c) for c in values]
    for n, column in enumerate(values):
        others = [c for m, c in enumerate(values) if m != n]
        places = is_change(numbers[n], [numbers[m] for m in range(len(values)) if m != n])
        if places is None or view.is_kept(column):
            continue
        a, b = (others[place].name for place in places)
        view.roles.set(column, LEFT_OUT, f"the change from {a} to {b}")
        view.roles.doubt(
            f'column "{column.name}" is the change from {a} to {b}',
            "left out",
            f'--ignore "{column.name}", or --keep "{column.name}" for readings',
        )
        return


def _summary(view: View, column: Column, kinds: Sequence[str], plain: Sequence[Column]) -> str:
    """What of the other columns the numbers of one are, as far as its name allows; "" for none."""
    own = view.numbers(column)
    numbers = [view.numbers(c) for c in plain]
    for kind in kinds:
        if kind == "number" and counts_rows(own):
            return "counts the rows"
        if kind == "rank" and is_rank(own, numbers):
            return "the rank of others"
        places = is_change(own, numbers) if kind == "change" else None
        if places is not None:
            a, b = (shortened(plain[n].name, 30) for n in places)
            return f"the change from {a} to {b}"
        if sums_up(kind, own, numbers):
            return f"the {kind} of the {len(numbers)} others"
    runs = [n for c, n in zip(plain, numbers, strict=True) if run_number(c.header.name)]
    found = next((kind for kind in kinds if sums_up(kind, own, runs)), "")
    return f"the {found} of {len(runs)} runs" if found else ""


def _doubt_summary(
    view: View, column: Column, kinds: Sequence[str], plain: Sequence[Column]
) -> None:
    """What is named like a summary and is none that the numbers show."""
    name = column.name
    if {"standard deviation", "coefficient of variation"} & set(kinds):
        view.roles.set(column, LEFT_OUT, "its name; a spread is no reading")
    elif {"change", "rank", "number"} & set(kinds) or any(run_number(c.header.name) for c in plain):
        view.roles.set(column, LEFT_OUT, "its name")
        view.roles.doubt(
            f'column "{name}" is named like a {kinds[0]}, and its numbers are none of the others',
            "left out",
            f'--ignore "{name}", or --keep "{name}" for readings',
        )


def _notice_summary(view: View, plain: list[Column]) -> None:
    """A last column that is the sum or the mean of all others, whatever its name."""
    last, others = plain[-1], plain[:-1]
    own, numbers = view.numbers(last), [view.numbers(c) for c in others]
    if view.is_kept(last):
        return
    for kind in ("sum", "mean", "median", "geometric mean"):
        if sums_up(kind, own, numbers) and all(is_telling(own, other) for other in numbers):
            name = last.name
            view.roles.set(last, LEFT_OUT, f"the {kind} of the {len(numbers)} others")
            view.roles.doubt(
                f'column "{name}" is the {kind} of the others',
                "left out",
                f'--ignore "{name}", or --keep "{name}" for readings',
            )
            return
