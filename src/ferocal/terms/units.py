"""Units of measurement: one table, with what they measure and how they convert."""

from __future__ import annotations

from ferocal.terms.frozen import dataclass


class UnitError(ValueError):
    """Two units that do not measure the same quantity."""


@dataclass(frozen=True)
class Quantity:
    """What can be measured, and the size of each unit in terms of the first.

    ``lower_is_better`` is the usual direction, for files that state none. On an interval
    scale, whose zero is arbitrary, ratios mean nothing (Stevens 1946, On the theory of scales
    of measurement, Science 103, 677-680). ``frames`` marks rates at which displays refresh. What is
    ``kept`` is no rate of work, so that nothing caps it.
    """

    name: str
    units: dict[str, float]
    lower_is_better: bool = False
    interval_scale: bool = False
    frames: bool = False
    kept: bool = False


# Binary and decimal prefixes as in IEC 80000-13; time units accepted beside the SI.
QUANTITIES: tuple[Quantity, ...] = (
    Quantity(
        "time",
        {"s": 1.0, "ms": 1e-3, "µs": 1e-6, "μs": 1e-6, "us": 1e-6, "ns": 1e-9, "sec": 1.0,
         "min": 60.0, "h": 3600.0, "d": 86400.0},
        lower_is_better=True,
    ),
    Quantity(
        "data",
        {"B": 1.0, "KiB": 2.0**10, "MiB": 2.0**20, "GiB": 2.0**30, "TiB": 2.0**40,
         "kB": 1e3, "MB": 1e6, "GB": 1e9, "TB": 1e12},
        lower_is_better=True,
        kept=True,
    ),
    Quantity("frame rate", {"fps": 1.0, "frames/s": 1.0}, frames=True),
    Quantity("frequency", {"Hz": 1.0, "kHz": 1e3, "MHz": 1e6, "GHz": 1e9}, frames=True),
    Quantity("power", {"W": 1.0, "mW": 1e-3, "kW": 1e3}, lower_is_better=True),
    Quantity("energy", {"J": 1.0, "mJ": 1e-3, "kJ": 1e3, "Wh": 3600.0, "kWh": 3.6e6},
             lower_is_better=True),
    Quantity("temperature", {"°C": 1.0}, lower_is_better=True, interval_scale=True),
    Quantity("temperature, Fahrenheit", {"°F": 1.0}, lower_is_better=True, interval_scale=True),
    Quantity("share", {"%": 1.0}, lower_is_better=True),
)  # fmt: skip
_QUANTITY_OF = {unit: quantity for quantity in QUANTITIES for unit in quantity.units}
# Where the table has no other unit: per cent, and prefixes of the SI.
_USUAL_FACTORS = (100.0, 1e3, 1e6)
TIME = QUANTITIES[0].units
DATA = QUANTITIES[1].units


def quantity_of(unit: str) -> Quantity | None:
    """What a unit measures, None if the table does not have it."""
    return _QUANTITY_OF.get(unit)


def unit_factors(unit: str) -> tuple[float, ...]:
    """By what a value in another unit is off, as factors above one, ascending."""
    quantity = quantity_of(unit)
    units = {} if quantity is None else quantity.units
    known = {max(s / units[unit], units[unit] / s) for s in units.values()} - {1.0}
    return tuple(sorted(known or _USUAL_FACTORS))


def is_time(unit: str) -> bool:
    """Whether a unit is one of time."""
    return unit in TIME


def lower_is_better(unit: str) -> bool:
    """Whether less of what a unit measures usually is better; false for unknown units."""
    quantity = quantity_of(unit)
    return quantity is not None and quantity.lower_is_better


def has_ratios(unit: str) -> bool:
    """Whether ratios of amounts in a unit mean anything; true for unknown units."""
    quantity = quantity_of(unit)
    return quantity is None or not quantity.interval_scale


def convert(value: float, unit: str, wanted: str) -> float:
    """A value in another unit.

    Raises
    ------
    UnitError
        When the units do not measure the same quantity.
    """
    if unit == wanted:
        return value
    quantity = quantity_of(unit)
    if quantity is None or wanted not in quantity.units:
        raise UnitError(f'"{unit}" cannot be converted to "{wanted}"')
    return value * quantity.units[unit] / quantity.units[wanted]
