"""Derived metrics: formulas compiled, names looked up, units checked and carried."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from typing import cast

from ferocal.errors import Problem
from ferocal.study.base import CompositionError
from ferocal.study.expressions import Expression, ExpressionError, parse_expression
from ferocal.study.metrics import Metric, derive
from ferocal.study.model import StudyFile
from ferocal.terms.dimensions import (
    ONE,
    Dimension,
    dimension_of,
    may_be_multiplied,
    unit_words,
)
from ferocal.terms.formulas import (
    Declared,
    Formula,
    Gathered,
    Gathering,
    Number,
    Operation,
    Operator,
    Reading,
    Term,
    walk,
)
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest
from ferocal.terms.units import UnitError

MetricKey = tuple[str, str]
_OPERATORS: dict[str, Operator] = {"add": "+", "subtract": "-", "multiply": "*", "divide": "/"}
_GATHERINGS = ("median", "geomean")


@dataclass(frozen=True)
class _Value:
    """A part of a formula with its dimension; ``over`` and ``under`` are its units in words."""

    term: Term
    dimension: Dimension
    over: list[str]
    under: list[str]

    @property
    def unit(self) -> str:
        return unit_words(self.over, self.under)


def compile_formulas(file: StudyFile) -> tuple[StudyFile, dict[MetricKey, Formula]]:
    """The formulas of all derived metrics, and the file with the units that they carry.

    Raises
    ------
    CompositionError
        When a formula makes no sense, names what is not there, or mixes units.
    """
    derived = {
        (workload, name)
        for workload, entry in file.workload.items()
        for name, metric in entry.metric.items()
        if metric.formula is not None
    }
    if not derived:
        return file, {}
    compiler = _Compiler(file)
    problems, formulas, metrics = [], {}, {}
    for place in sorted(derived):
        try:
            formulas[place], metrics[place] = compiler.compile(place)
        except (ExpressionError, UnitError) as error:
            problems.append(Problem(f"workload.{place[0]}.metric.{place[1]}.from", str(error)))
    problems += _without_reading(file)
    if problems:
        raise CompositionError(problems)
    return _with_metrics(file, metrics), formulas


def _without_reading(file: StudyFile) -> Iterator[Problem]:
    for name, entry in file.workload.items():
        if all(metric.formula is not None for metric in entry.metric.values()):
            text = "it has no readings: put derived metrics under a workload that is run"
            yield Problem(f"workload.{name}.metric", text)


def _with_metrics(file: StudyFile, metrics: dict[MetricKey, Metric]) -> StudyFile:
    workloads = {
        name: entry.model_copy(
            update={"metric": {m: metrics.get((name, m), old) for m, old in entry.metric.items()}}
        )
        for name, entry in file.workload.items()
    }
    return file.model_copy(update={"workload": workloads})


class _Compiler:
    """Compiles formulas; what a formula takes from another derived metric is put in its place."""

    def __init__(self, file: StudyFile) -> None:
        self.file = file
        self.metrics = {
            (workload, part): metric
            for workload, entry in file.workload.items()
            for name, declared in entry.metric.items()
            for part, metric in derive(name, declared).items()
        }
        self.quantities = _declared(file)
        self.open: list[MetricKey] = []
        self.workload = ""

    def compile(self, place: MetricKey) -> tuple[Formula, Metric]:
        """A formula, and its metric with a unit."""
        metric = self.metrics[place]
        value = self._value_of(place)
        unit = metric.unit or value.unit
        wanted = dimension_of(unit)
        if not value.dimension.agrees(wanted):
            raise UnitError(f'gives {_words(value)}, not "{unit}"')
        if metric.margin is not None and metric.margin[1] not in ("%", unit):
            raise UnitError(f'is in "{unit}", and its margin in "{metric.margin[1]}"')
        workloads = {t.workload for t in walk(value.term) if isinstance(t, Reading)}
        if not workloads:
            raise ExpressionError("names no metric to compute from")
        across = workloads != {place[0]}
        formula = Formula(metric.formula or "", value.term, wanted.factor, across)
        return formula, metric.model_copy(update={"unit": unit})

    def _value_of(self, place: MetricKey) -> _Value:
        """What a derived metric is made of, names within its workload looked up first."""
        if place in self.open:
            raise ExpressionError(f"circular definition: {place[1]} is computed from itself")
        self.open.append(place)
        before, self.workload = self.workload, place[0]
        try:
            return self._build(parse_expression(self.metrics[place].formula or ""))
        finally:
            self.workload = before
            self.open.pop()

    def _build(self, node: Expression) -> _Value:
        builders: dict[str, Callable[[Expression], _Value]] = {
            "number": _number, "name": self._name, "call": self._call, "negate": self._negate
        }  # fmt: skip
        return builders.get(node.kind, self._operation)(node)

    def _negate(self, node: Expression) -> _Value:
        inner = self._build(node.parts[0])
        term = Operation("-", Number(0.0), inner.term)
        return _Value(term, inner.dimension, inner.over, inner.under)

    def _operation(self, node: Expression) -> _Value:
        left, right = (self._build(part) for part in node.parts)
        operator = _OPERATORS[node.kind]
        term = Operation(operator, left.term, right.term)
        if operator in ("+", "-"):
            if not left.dimension.agrees(right.dimension):
                verb = "added to" if operator == "+" else "taken from"
                raise UnitError(f"{_words(right)} cannot be {verb} {_words(left)}")
            return _Value(term, left.dimension, left.over, left.under)
        for side in (left, right):
            if not may_be_multiplied(side.unit):
                raise UnitError(
                    f"{_words(side)} has no natural zero, so products and ratios are meaningless; "
                    "use a difference"
                )
        if operator == "/" and right.term == Number(0.0):
            raise ExpressionError("divides by zero")
        if operator == "*":
            over, under, sign = left.over + right.over, left.under + right.under, 1
        else:
            over, under, sign = left.over + right.under, left.under + right.over, -1
        return _Value(term, left.dimension.times(right.dimension, sign), over, under)

    def _call(self, node: Expression) -> _Value:
        name = node.parts[0].parts[0]
        if name not in _GATHERINGS:
            raise ExpressionError(f'unknown function "{name}"; {closest(name, list(_GATHERINGS))}')
        values = [value for part in node.parts[1:] for value in self._several(part)]
        first = values[0]
        for other in values[1:]:
            if not first.dimension.agrees(other.dimension):
                raise UnitError(f"{name} cannot mix {_words(first)} and {_words(other)}")
        term = Gathered(cast("Gathering", name), tuple(value.term for value in values))
        return _Value(term, first.dimension, first.over, first.under)

    def _several(self, node: Expression) -> list[_Value]:
        """What an argument stands for: a metric of all workloads of a group, or one value."""
        if node.kind == "name":
            for group, name in _splits(node.parts):
                members = [
                    (workload, name)
                    for workload, entry in self.file.workload.items()
                    if group and group in (entry.group, entry.sized_workload)
                    and (workload, name) in self.metrics
                ]  # fmt: skip
                if members:
                    return [self._reading(place) for place in members]
        return [self._build(node)]

    def _name(self, node: Expression) -> _Value:
        """A metric of this workload or of another, a workload with a single one, a quantity."""
        for workload, name in _splits(node.parts):
            place = (workload or self.workload, name)
            if place in self.metrics:
                return self._reading(place)
        text = ".".join(node.parts)
        if text in self.file.workload:
            alone = [place for place in self.metrics if place[0] == text]
            if len(alone) == 1:
                return self._reading(alone[0])
            names = ", ".join(f"{text}.{name}" for _, name in alone)
            raise ExpressionError(f"{text} has several metrics: name one of {names}")
        if text in self.quantities:
            unit = self.quantities[text]
            dimension = dimension_of(unit)
            term = Declared(text, dimension.factor)
            return _Value(term, _base(dimension), [unit], [])
        own = [name for workload, name in self.metrics if workload == self.workload]
        known = {*own, *self.file.workload, *self.quantities}
        others = [f"{w}.{name}" for w, name in self.metrics if w != self.workload]
        hint = closest(text, [*own, *self.file.workload, *self.quantities, *others])
        joined = "-" in text and not known.isdisjoint(text.split("-"))
        minus = "; put spaces around a minus sign" if joined else ""
        raise ExpressionError(f'no metric or quantity "{text}"; {hint}{minus}')

    def _reading(self, place: MetricKey) -> _Value:
        metric = self.metrics[place]
        if metric.formula is not None:
            return self._value_of(place)
        dimension = dimension_of(metric.unit)
        return _Value(Reading(*place, dimension.factor), _base(dimension), [metric.unit], [])


def _number(node: Expression) -> _Value:
    if not math.isfinite(float(node.parts[0])):
        raise ExpressionError(f"{node.parts[0]} is too large")
    unit = node.parts[1] if len(node.parts) > 1 else ONE
    dimension = dimension_of(unit)
    term = Number(float(node.parts[0]) * dimension.factor)
    return _Value(term, _base(dimension), [unit], [])


def _base(dimension: Dimension) -> Dimension:
    """The same in base units, in which all terms are."""
    return Dimension(dimension.powers)


def _words(value: _Value) -> str:
    return "a number without unit" if value.unit == ONE else f'"{value.unit}"'


def _splits(parts: tuple[str, ...]) -> list[tuple[str, str]]:
    """The pairs of workload ("" for none) and metric that a name may mean."""
    if len(parts) == 2:
        return [(parts[0], parts[1])]
    text = parts[0]
    dots = [n for n, sign in enumerate(text) if sign == "."]
    return [("", text), *((text[:n], text[n + 1 :]) for n in dots)]


def _declared(file: StudyFile) -> dict[str, str]:
    """The quantities of levels, factors and benches, with the unit of each."""
    levels = [
        (f"factor.{factor}.level.{name}", level)
        for factor, table in file.factor.items()
        for name, level in table.level.items()
    ]
    units = {
        factor: ONE
        for factor, table in file.factor.items()
        if any(level.quantity is not None for level in table.level.values())
    }
    tables = [(place, level.quantities) for place, level in levels]
    tables += [(f"bench.{name}", bench.quantities) for name, bench in file.bench.items()]
    for place, quantities in tables:
        for name, (_, unit) in quantities.items():
            if units.setdefault(name, unit) != unit:
                text = f'is in "{unit}" here and in "{units[name]}" elsewhere'
                raise CompositionError([Problem(f"{place}.quantities.{name}", text)])
    return units
