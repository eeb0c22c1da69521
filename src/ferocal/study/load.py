"""Reading a study file: all mistakes are reported together, with key and line."""

from __future__ import annotations

import functools
import os
import re
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, get_args

from pydantic import BaseModel, ValidationError
from pydantic_core import ErrorDetails

from ferocal.errors import Problem, StudyFileError, UsageError
from ferocal.study.base import CompositionError
from ferocal.study.benches import Bench, check_benches
from ferocal.study.claims import check_claims, metric_names
from ferocal.study.configurations import (
    Configuration,
    Design,
    compose_design,
)
from ferocal.study.derived import compile_formulas
from ferocal.study.masking import Mask, make_mask
from ferocal.study.metrics import Metric, derive
from ferocal.study.model import Head, Level, StudyFile, Workload
from ferocal.study.refusals import why_refused
from ferocal.terms.formulas import Formula
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest
from ferocal.terms.numbers import grouped
from ferocal.terms.signs import hide
from ferocal.terms.wording import listed

STUDY_FILE = "study.toml"
MAX_BYTES = 4 * 2**20
# What the bench is called where the study file does not name it.
UNNAMED_BENCH = "bench"


# Keys of earlier versions, with what stands in their place.
_RENAMED = {"settle.limit": "it is called timeout now"}


@dataclass(frozen=True)
class Study:
    """A study as understood: its file, with configurations composed.

    ``text`` is that of the file, and ``formulas`` are those of derived metrics by workload and
    metric. ``chosen_bench`` is the bench on which this machine is, where
    that has been found out.
    """

    directory: Path
    file: StudyFile
    design: Design
    text: str
    formulas: Mapping[tuple[str, str], Formula]
    chosen_bench: str | None = None

    @property
    def configurations(self) -> tuple[Configuration, ...]:
        """All configurations, the baseline first, the control arm last."""
        return self.design.configurations

    @property
    def names(self) -> tuple[str, ...]:
        """The names of all configurations."""
        return tuple(configuration.name for configuration in self.configurations)

    @property
    def baseline(self) -> str:
        """The name of the baseline."""
        return self.design.baseline

    @property
    def head(self) -> Head:
        """Question, margin, rounds, runs and seed."""
        return self.file.study

    @property
    def workloads(self) -> dict[str, Workload]:
        """Workloads by name, in the order of the file."""
        return self.file.workload

    @property
    def benches(self) -> tuple[str, ...]:
        """The names of all benches, in the order of the file."""
        return tuple(self.file.bench) or (UNNAMED_BENCH,)

    @functools.cached_property
    def mask(self) -> Mask:
        """What is private in the study, with the values that variables have now."""
        return make_mask(self.file, os.environ)

    @property
    def ordered_factor(self) -> str | None:
        """The first factor whose levels follow each other, None where there is none."""
        return next((n for n, f in self.file.factor.items() if f.order is not None), None)

    @property
    def kept_text(self) -> str:
        """The text of the study file as it may be kept: without anything private."""
        return self.mask.text(self.text)

    @property
    def bench(self) -> str:
        """The name of the bench: the chosen one, or the only one.

        Raises
        ------
        UsageError
            When there are several, and none was chosen.
        """
        if self.chosen_bench is None and len(self.benches) > 1:
            raise UsageError(
                f"this study has several benches, {listed(self.benches)}: name one with --bench"
            )
        return self.chosen_bench or self.benches[0]

    @property
    def bench_table(self) -> Bench:
        """What the study file says of the bench."""
        return self.file.bench.get(self.bench, Bench())

    @property
    def on_this_machine(self) -> bool:
        """Whether the bench is the machine on which Ferocal runs, and not one beside it.

        Where operators read everything, this is their computer and no part of the bench.
        """
        table = self.bench_table
        if table.this_machine is not None or table.host is not None or table.through:
            return bool(table.this_machine)
        return any(not workload.by_hand for workload in self.workloads.values())

    def on(self, bench: str | None) -> Study:
        """The study on one of its benches; None leaves it open.

        Raises
        ------
        UsageError
            When there is no bench of that name; the message has the closest name.
        """
        if bench is not None and bench not in self.benches:
            raise UsageError(f'no bench "{bench}" in this study; {closest(bench, self.benches)}')
        return replace(self, chosen_bench=bench)

    def is_impossible(self, configuration: str, workload: str) -> bool:
        """Whether a workload cannot be run with a configuration, as the study file says."""
        return (configuration, workload) in self.design.impossible_workloads

    def level(self, factor: str, name: str) -> Level:
        """A level of a factor."""
        return self.file.factor[factor].level[name]

    def configuration(self, name: str) -> Configuration:
        """The configuration of that name.

        Raises
        ------
        UsageError
            When there is none; the message has the closest name.
        """
        names = [configuration.name for configuration in self.configurations]
        if name not in names:
            raise UsageError(f'no configuration "{name}" in this study; {closest(name, names)}')
        return self.configurations[names.index(name)]

    def workload(self, name: str) -> Workload:
        """The workload of that name.

        Raises
        ------
        UsageError
            When there is none; the message has the closest name.
        """
        if name not in self.workloads:
            raise UsageError(
                f'no workload "{name}" in this study; {closest(name, list(self.workloads))}'
            )
        return self.workloads[name]

    def metrics(self) -> list[tuple[str, str, Metric]]:
        """Workload name, metric name and metric, in the order of the file, derived ones too.

        Of a trace there are several: its parts.
        """
        return [
            (workload, name, derived)
            for workload, entry in self.workloads.items()
            for declared, metric in entry.metric.items()
            for name, derived in derive(declared, metric).items()
        ]

    def read_metrics(self) -> list[tuple[str, str, Metric]]:
        """Those of `metrics` that are read, and not computed from others."""
        return [place for place in self.metrics() if place[2].formula is None]

    def quantity(self, name: str, bench: str, configuration: str) -> float | None:
        """How much of a declared quantity a configuration has on a bench, in its unit."""
        declared = self.file.bench.get(bench, Bench()).quantities
        found = self.configuration(configuration).quantities.get(name) or declared.get(name)
        return None if found is None else found[0]


def load_study(directory: Path) -> Study:
    """Read and check ``study.toml`` in a directory.

    Raises
    ------
    UsageError
        When there is no study file there.
    StudyFileError
        When the file has mistakes; all of them are listed.
    """
    return understand(directory, _read_text(directory / STUDY_FILE))


def understand(directory: Path, text: str) -> Study:
    """The study that a text describes; errors as of `load_study`."""
    path = directory / STUDY_FILE
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise StudyFileError(path, [_syntax_problem(error)]) from None
    except RecursionError:
        problem = Problem("", "arrays or tables are nested too deep")
        raise StudyFileError(path, [problem]) from None
    except ValueError as error:  # numbers of thousands of digits, and dates that are none
        raise StudyFileError(path, [Problem("", f"not valid TOML: {error}")]) from None
    try:
        file = StudyFile.model_validate(data)
        file, formulas = compile_formulas(file)
        design = compose_design(file)
        names = [configuration.name for configuration in design.configurations]
        problems = [*check_benches(file), *check_claims(file, names, metric_names(file))]
        if problems:
            raise CompositionError(problems)
    except ValidationError as error:
        problems = [_explain(details) for details in error.errors()]
        raise StudyFileError(path, _with_lines(problems, text)) from None
    except CompositionError as error:
        raise StudyFileError(path, _with_lines(error.problems, text)) from None
    study = Study(directory, file, design, text, formulas)
    if study.mask.texts:
        hide(study.mask.text)
    return study


def _read_text(path: Path) -> str:
    if not path.is_file():
        raise UsageError(
            f"{path}: no study here; create one with `ferocal new DIR`, or name it with --study DIR"
        )
    try:
        raw = path.read_bytes()
    except OSError as error:
        problem = Problem("", f"cannot be read: {error.strerror}")
        raise StudyFileError(path, [problem]) from None
    if len(raw) > MAX_BYTES:
        text = f"has {grouped(len(raw))} bytes; a study file has at most {grouped(MAX_BYTES)}"
        raise StudyFileError(path, [Problem("", text)])
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = raw.count(b"\n", 0, error.start) + 1
        text = f"line {line} is not UTF-8 (byte 0x{raw[error.start]:02x}); save the file as UTF-8"
        raise StudyFileError(path, [Problem("", text)]) from None


def _syntax_problem(error: tomllib.TOMLDecodeError) -> Problem:
    # The text of the exception is the only place where Python 3.11 has the position.
    match = re.search(r"^(.*) \(at line (\d+), column (\d+)\)$", str(error))
    if match is None:
        return Problem("", f"not valid TOML: {error}")
    return Problem(f"column {match[3]}", f"not valid TOML: {match[1]}", int(match[2]))


def _explain(details: ErrorDetails) -> Problem:
    location = [str(part) for part in details["loc"] if not _is_branch(str(part))]
    key = ".".join(location)
    if details["type"] == "extra_forbidden":
        known = _keys_at(location[:-1])
        if location[-1] in known:
            return Problem(key, "cannot be combined with the other keys here")
        hint = _RENAMED.get(".".join(location[-2:])) or closest(location[-1], known)
        return Problem(key, f"unknown key; {hint}")
    if details["type"] == "literal_error":
        return Problem(key, f"{details['input']!r} is not {details['ctx']['expected']}")
    message = why_refused(details)
    return Problem(key, message[0].lower() + message[1:])


def _is_branch(part: str) -> bool:
    """Whether a part of a location names a branch of a union instead of a key."""
    return bool(re.search(r"[\[\]({]|^a-[a-z]+-(check|source)$", part)) or part == "str"


def _keys_at(location: Sequence[str]) -> list[str]:
    """The keys that the table at this location may have."""
    models: set[type[BaseModel]] = {StudyFile}
    for part in location:
        models = {
            found
            for model in models
            for name, field in model.model_fields.items()
            if (field.alias or name) == part
            for found in _models_in(field.annotation)
        } or models  # a user's own name, or an index, stays at the same models
    return [field.alias or name for model in models for name, field in model.model_fields.items()]


def _models_in(annotation: Any) -> set[type[BaseModel]]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return {annotation}
    return {model for argument in get_args(annotation) for model in _models_in(argument)}


def _with_lines(problems: Sequence[Problem], text: str) -> list[Problem]:
    lines = text.splitlines()
    unique = dict.fromkeys(problems)
    return [Problem(p.key, p.message, find_line(lines, p.key)) for p in unique]


def find_line(lines: Sequence[str], key: str) -> int | None:
    """The line on which a key stands, or that of the nearest table around it.

    A TOML reader gives no positions, so the line is looked up: the header that covers
    most of the key, then the first line below it that assigns the next part.
    """
    parts = key.split(".")
    best, depth = None, 0
    headers = [
        (number, re.split(r"\s*\.\s*", match[1].replace('"', "")))
        for number, line in enumerate(lines, 1)
        if (match := re.match(r"\s*\[+\s*([^\]]+?)\s*\]", line))
    ]
    for number, header in headers:
        if len(header) > depth and ".".join(parts).startswith(".".join(header)):
            best, depth = number, len(header)
    if best is None:
        return None
    end = next((number for number, _ in headers if number > best), len(lines) + 1)
    for wanted in parts[depth : depth + 1]:
        for number in range(best + 1, end):
            if re.match(rf'\s*"?{re.escape(wanted)}"?\s*[.=]', lines[number - 1]):
                return number
    return best
