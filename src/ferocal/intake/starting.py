"""A study begun from a file of readings: its configurations, workloads and metrics."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

import numpy as np

from ferocal.errors import FerocalError, IntakeError, UsageError
from ferocal.intake.beginning import (
    STATED,
    Levels,
    Order,
    amounts_of,
    bench_lines,
    common_margin,
    configuration_lines,
    dates_of,
    names_in,
    quoted,
    workload_lines,
)
from ferocal.intake.columns import FACTOR, Column, Columns, Labels
from ferocal.intake.shapes import NO_CONFIGURATION
from ferocal.intake.tables.entry import read_readings
from ferocal.intake.tables.options import FILE, TableOptions
from ferocal.ledger.opening import LEDGER_FILE
from ferocal.study.configurations import CONTROL
from ferocal.study.load import STUDY_FILE
from ferocal.study.template import write_template
from ferocal.terms.files import scratch_directory
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest, plain_name, resolve

_DEFAULT_MARGIN = "5 %"


@dataclass(frozen=True)
class Beginning:
    """The text of a study file, and what of it no file has said, in sentences.

    ``criteria`` names the columns that say how metrics are judged, which `load` does not read;
    ``configurations`` are those of the study.
    """

    text: str
    guesses: tuple[str, ...]
    criteria: tuple[str, ...]
    configurations: tuple[str, ...]


def describe_files(
    paths: Sequence[Path],
    options: TableOptions,
    baseline: str | None,
    order: Order | None = None,
) -> Beginning:
    """A study for the readings of files; factors are columns whose texts are levels.

    With an ``order`` the levels of the first factor, or the configurations, are releases that
    follow each other: in order of "time", by the earliest date of the readings of each, or as they
    come in the "file".

    Raises
    ------
    IntakeError
        When a file cannot be read, or when a release has no date in an order of time.
    UsageError
        When the baseline is none of them.
    """
    readings, factors = _read(paths, options)
    where = ", ".join(map(str, paths))
    arms, arm_of_rows = _arms(readings, factors, where)
    names = list(arms)
    baseline = None if baseline is None else resolve(baseline, names)
    if baseline is not None and baseline not in names:
        raise UsageError(f'no configuration "{baseline}" in {where}; {closest(baseline, names)}')
    control = len(arms) > 2 and arms.get(CONTROL) == arms[baseline or names[0]]
    if control:
        del arms[CONTROL]
    guesses: list[str] = []
    amounts, unused = amounts_of(readings, arm_of_rows, arms)
    known = Levels(amounts=amounts)
    if order is not None:
        lead = factors[0] if factors else "configuration"
        known = Levels(lead, order, dates_of(readings, factors, where, order), amounts)
    margin = common_margin(readings)
    head = [
        f"# Made from {', '.join(path.name for path in paths)}; look at units, directions and the "
        "margin.",
        "[study]",
        'question = "Which configuration changes the scores?"',
        f"margin = {quoted(margin or _DEFAULT_MARGIN)}",
        *(["control = true"] if control else []),
        "",
        *bench_lines(readings, where),
        *configuration_lines(arms, baseline or names[0], known),
    ]
    told = "the question is put in general"
    guesses.append(told if margin else f"the margin is {_DEFAULT_MARGIN}, and {told}")
    if baseline is None:
        guesses.append(f"the baseline is {names[0]}, which comes first")
    workloads = workload_lines(readings, where, guesses, margin)
    criteria = tuple(name for name in STATED if name in readings)
    guesses += [f"{text}; it is not used" for text in unused]
    return Beginning("\n".join([*head, *workloads, ""]), tuple(guesses), criteria, tuple(names))


_OWN = (
    "configuration", "workload", "metric", "unit", "better", "bench", "group", "price", "cores",
)  # fmt: skip


def _read(paths: Sequence[Path], options: TableOptions) -> tuple[Columns, list[str]]:
    """What the rows of all files say of their place, and the names of the factors among it."""
    texts: dict[str, list[str]] = {}
    count, found = 0, list(options.factors)
    for path in paths:
        readings = read_readings(path, options, None).columns
        given = [n.removeprefix(FACTOR) for n in readings.names if n.startswith(FACTOR)]
        found += [name for name in given if name not in found]
        if not given and "configuration" not in readings:
            raise IntakeError(f"{path}: {NO_CONFIGURATION}")
        if "workload" not in readings:
            # What tells configurations apart names no workload.
            by_file = options.named.get("configuration") == FILE
            name = "" if by_file else plain_name(path.stem)
            alone = Labels.same(name or "workload", len(readings))
            readings = Columns({**readings.by_name, "workload": alone}, readings.row)
        for name in (*_OWN, "started_at", *STATED, *(FACTOR + f for f in found)):
            if name in readings and _is_understood(readings.labels(name), name):
                rows = readings.labels(name).at(np.arange(len(readings)))
                texts.setdefault(name, [""] * count).extend(rows)
        count += len(readings)
        for rows in texts.values():
            rows += [""] * (count - len(rows))
    by_name: dict[str, Column] = {name: Labels.of_texts(rows) for name, rows in texts.items()}
    return Columns(by_name, np.arange(count)), found


def _is_understood(labels: Labels, name: str) -> bool:
    """Whether all texts of a column are what its name promises, of those that `new` reads."""
    try:
        for text in filter(None, labels.names if name in STATED else ()):
            STATED[name](text)
    except ValueError:
        return False
    return True


def _arms(
    readings: Columns, factors: Sequence[str], where: str
) -> tuple[dict[str, dict[str, str]], list[str]]:
    """The configurations with the level of each factor, by name; and that of every row."""
    if not factors:
        names = names_in(readings, "configuration", where)
        of_rows = [names[text] for text in readings.labels("configuration").at(readings.row)]
        return {name: {"configuration": name} for name in names.values()}, of_rows
    levels = {f: names_in(readings, FACTOR + f, where) for f in factors}
    columns = [
        [levels[f][text] for text in readings.labels(FACTOR + f).at(readings.row)] for f in factors
    ]
    arms: dict[str, dict[str, str]] = {}
    of_rows = []
    own = readings.labels("configuration").at(readings.row)
    for name, *combination in zip(own, *columns, strict=True):
        # Configurations may be called like the levels that they join.
        label = "+".join(filter(None, map(plain_name, name.split("+")))) or "+".join(combination)
        chosen = dict(zip(factors, combination, strict=True))
        if arms.setdefault(label, chosen) != chosen:
            raise IntakeError(f"{where}: {label} is of several combinations of levels")
        of_rows.append(label)
    return arms, of_rows


@contextmanager
def study_in_the_making(directory: Path, text: str) -> Iterator[Path]:
    """A place for a study with what is recorded of it, which takes its place at the end.

    Where anything fails before, nothing of it is left.

    Raises
    ------
    UsageError
        When the directory has a study file or a ledger already.
    FerocalError
        When something cannot be written.
    """
    existed = directory.exists()
    try:
        directory.mkdir(parents=True, exist_ok=True)
        taken = [n for n in (STUDY_FILE, LEDGER_FILE) if (directory / n).exists()]
        if taken:
            raise UsageError(
                f"{directory / taken[0]} exists and was not changed; choose another directory"
            )
        with scratch_directory(directory, ".new-") as making:
            write_template(making, text)
            yield making
            # The study file last: without it there is no study.
            for name in (LEDGER_FILE, STUDY_FILE):
                (making / name).replace(directory / name)
    except OSError as error:
        raise FerocalError(f"{directory}: cannot be written: {error.strerror}") from None
    finally:
        if not existed:
            with suppress(OSError):  # there is something in it
                directory.rmdir()
