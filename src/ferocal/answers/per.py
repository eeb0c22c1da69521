"""Per what: values over a price, a number of cores, or whatever else is declared."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

from ferocal.errors import UsageError
from ferocal.study.benches import Bench
from ferocal.study.load import Study
from ferocal.terms.dimensions import ONE, dimension_of
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest
from ferocal.terms.wording import listed


@dataclass(frozen=True)
class Per:
    """A declared quantity by which values are divided, by bench and configuration, in one unit.

    ``unit`` is "1" for what is only counted.
    """

    name: str
    unit: str
    amounts: Mapping[tuple[str, str], float]

    @property
    def differs(self) -> bool:
        """Whether it is not the same everywhere."""
        return len(set(self.amounts.values())) > 1


def declared_amount(
    study: Study, name: str, bench: str, configuration: str
) -> tuple[float, str] | None:
    """How much of a quantity a configuration has on a bench, with its unit."""
    own = study.configuration(configuration).quantities.get(name)
    return own or study.file.bench.get(bench, Bench()).quantities.get(name)


def quantity_names(study: Study) -> list[str]:
    """The quantities that levels or benches declare."""
    of_levels = (q for c in study.configurations for q in c.quantities)
    of_benches = (q for bench in study.file.bench.values() for q in bench.quantities)
    return list(dict.fromkeys([*of_levels, *of_benches]))


def find_per(study: Study, name: str, cells: Sequence[tuple[str, str]]) -> Per:
    """A quantity of all cells (bench and configuration) in one unit.

    Money in several currencies is brought to the first with the rates of the study file.

    Raises
    ------
    UsageError
        When a cell does not declare it, it is zero, or units cannot be brought together.
    """
    names = quantity_names(study)
    if name not in names:
        hint = closest(name, names) if names else "none is declared"
        raise UsageError(
            f'no quantity "{name}" in this study: {hint}; write quantities = {{ {name} = … }} '
            "with the levels or benches that have it"
        )
    found = {cell: declared_amount(study, name, *cell) for cell in cells}
    missing = [" on ".join(reversed(cell)) for cell, known in found.items() if known is None]
    if missing:
        raise UsageError(
            f'{name} is not declared for {listed(missing)}, so "per {name}" cannot be computed'
        )
    known = {cell: amount for cell, amount in found.items() if amount is not None}
    unit = next(iter(known.values()))[1]
    amounts = {cell: _in_unit(study, name, *amount, unit) for cell, amount in known.items()}
    zero = [" on ".join(reversed(cell)) for cell, amount in amounts.items() if amount == 0]
    if zero:
        raise UsageError(f'{name} is 0 for {listed(zero)}, so "per {name}" cannot be computed')
    return Per(name, unit, amounts)


def differing_quantities(study: Study, cells: Sequence[tuple[str, str]]) -> list[Per]:
    """The quantities that all cells declare in units that agree, and that differ."""
    found = []
    for name in quantity_names(study):
        try:
            per = find_per(study, name, cells)
        except UsageError:
            # What cannot be compared is only an error where it was asked for.
            continue
        if per.differs:
            found.append(per)
    return found


def _in_unit(study: Study, name: str, amount: float, unit: str, wanted: str) -> float:
    """An amount in another unit, by size or by a declared rate between currencies."""
    if unit == wanted:
        return amount
    money, slash, period = unit.partition("/")
    wanted_money, wanted_slash, wanted_period = wanted.partition("/")
    rate = _rate(study, money, wanted_money)
    if rate is not None:
        if period == wanted_period:
            return amount * rate
        ends = (
            dimension_of(f"{ONE}{slash}{period}"),
            dimension_of(f"1{wanted_slash}{wanted_period}"),
        )
        if ends[0].agrees(ends[1]):
            return amount * rate * ends[0].factor / ends[1].factor
    own, other = dimension_of(unit), dimension_of(wanted)
    if own.agrees(other):
        return amount * own.factor / other.factor
    hint = "one of them in the unit of the other"
    if period == wanted_period:
        hint = f'a rate, such as [rate] {money} = "… {wanted_money}"'
    raise UsageError(f"{name} is in {wanted} and in {unit}: declare {hint}")


def _rate(study: Study, money: str, wanted: str) -> float | None:
    """What one unit of a currency is worth in another; None unless stated."""
    if money == wanted:
        return 1.0
    rates = study.file.rate
    if money in rates and rates[money][1] == wanted:
        return rates[money][0]
    if wanted in rates and rates[wanted][1] == money and rates[wanted][0]:
        return 1 / rates[wanted][0]
    return None


def per_unit(unit: str, better: str, per: Per) -> tuple[str, float]:
    """The unit of a metric per quantity, and the factor that brings products into it.

    What is better when higher is divided by the quantity, what is better when lower is multiplied
    with it: seconds at a price per hour are money per run.
    """
    if better != "lower":
        return (unit if per.unit == ONE else _over(unit, per.unit)), 1.0
    if per.unit == ONE:
        return f"{unit}·{per.name}", 1.0
    product = dimension_of(unit).times(dimension_of(per.unit))
    if len(product.powers) == 1 and product.powers[0][1] == 1:
        return product.powers[0][0], product.factor
    return f"{unit}·{per.unit}", 1.0


def _over(unit: str, per: str) -> str:
    """One unit over another; over a price per hour it is per money, for an hour."""
    return f"{unit}/({per})" if "/" in per else f"{unit}/{per}"


def offset_of(per: Per, cell: tuple[str, str], better: str, share: float = 1.0) -> float:
    """What is added to the logarithm of a metric so that it is per the quantity.

    Of an index only a ``share`` of the metrics may not be per the quantity yet.
    """
    amount = share * math.log(per.amounts[cell])
    return amount if better == "lower" else -amount
