"""Claims: statements that readings are to support or refute, written down beforehand."""

from __future__ import annotations

import datetime
import hashlib
import json
import math
import re
from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Annotated, Any, Literal, Self

from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator

from ferocal.errors import Problem
from ferocal.study.base import ArmName, Name, StudyTable
from ferocal.study.metrics import derive
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest
from ferocal.terms.numbers import MINUS

if TYPE_CHECKING:
    from ferocal.study.load import Study
    from ferocal.study.model import StudyFile

NOISE = "noise"
TIMES = "times"
INDEX = "index"
_BOUND = re.compile(r"\s*([-+−]?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?)\s*(.*?)\s*")


@dataclass(frozen=True)
class Limit:
    """A bound of a claim: a number with "%", "times", a unit, or "" for a plain ratio."""

    number: float
    unit: str
    text: str


def parse_limit(value: Any) -> Limit:
    """Turn "1 %", "1.5 times", "200 s" or a number into a limit.

    Raises
    ------
    ValueError
        When it is none of these.
    """
    if isinstance(value, Limit):
        return value
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        value = f"{value:.15g}"
    match = _BOUND.fullmatch(value) if isinstance(value, str) else None
    if match is None:
        advice = 'write it like "1 %", "1.5 times" or "200 s"'
        raise ValueError(f"is not a bound; {advice}, not {value!r}")
    limit = Limit(float(match[1].replace(MINUS, "-")), match[2], value.strip())
    if not math.isfinite(limit.number):
        raise ValueError(f"{value!r} is too large")
    if limit.unit == TIMES and limit.number <= 0:
        raise ValueError(f'"{value}" is no ratio: it must be above 0')
    if limit.unit == "%" and limit.number <= -100:
        raise ValueError(f'"{value}" is impossible: a change must be above -100 %')
    return limit


_Limit = Annotated[
    Limit,
    BeforeValidator(parse_limit),
    WithJsonSchema({"type": ["string", "number"], "examples": ["1 %", "1.5 times", "200 s"]}),
]


class Claim(StudyTable):
    """A statement on a metric, with one bound, that readings support or refute.

    ``metric`` is "WORKLOAD METRIC", a workload with a single one, or "index", that over all
    workloads. Bounds in per cent, and in "times", are on the change of the measured value under
    ``configuration`` against the baseline, or ``against`` another; bounds in the unit of the
    metric are on the value itself, unless ``of`` is "change". With ``ratio_to`` another metric of
    the same configuration, the bound is on the ratio of the two. ``within`` "noise" says that a
    change is no larger than what single runs vary by.
    """

    says: str = Field(min_length=1)
    metric: str
    configuration: ArmName
    against: ArmName | None = None
    bench: Name | None = None
    ratio_to: str | None = None
    of: Literal["change", "value"] | None = None
    at_most: _Limit | None = None
    at_least: _Limit | None = None
    within: _Limit | Literal["noise"] | None = None
    between: tuple[_Limit, _Limit] | None = None
    source: str = ""
    date: datetime.date | None = None

    @property
    def limits(self) -> tuple[Limit, ...]:
        """The numbers of its bound, none of "noise"."""
        pairs = (self.at_most, self.at_least, self.within)
        single = [limit for limit in pairs if isinstance(limit, Limit)]
        return (*single, *(self.between or ()))

    @property
    def bound(self) -> str:
        """The bound in words."""
        if self.within == NOISE:
            return "within run-to-run noise"
        first, *others = (limit.text.replace("-", MINUS, 1) for limit in self.limits)
        if self.within is not None:
            return f"within ±{first}"
        if others:
            return f"between {first} and {others[0]}"
        return f"at most {first}" if self.at_most is not None else f"at least {first}"

    @property
    def on_value(self) -> bool:
        """Whether the bound is on the value itself, and not on a change or a ratio."""
        if self.of is not None:
            return self.of == "value"
        return (
            self.ratio_to is None
            and all(x.unit not in ("%", TIMES) for x in self.limits)
            and (self.within != NOISE)
        )

    @model_validator(mode="after")
    def _one_bound(self) -> Self:
        keys = ("at_most", "at_least", "within", "between")
        given = [key.replace("_", "-") for key in keys if getattr(self, key) is not None]
        if len(given) != 1:
            said = " and ".join(given) or "none"
            raise ValueError(f"needs one of at-most, at-least, within, between; it has {said}")
        if self.between is not None and self.between[0].number >= self.between[1].number:
            raise ValueError("between must be [lowest, highest]")
        if len({limit.unit for limit in self.limits}) > 1:
            raise ValueError("both ends of between need the same unit")
        if isinstance(self.within, Limit) and self.within.number <= 0:
            raise ValueError("within must be above 0: it extends to both sides")
        if self.ratio_to is not None and (self.of or self.within == NOISE):
            raise ValueError("a ratio of two metrics cannot have `of` or noise")
        if self.ratio_to is not None and any(limit.number <= 0 for limit in self.limits):
            raise ValueError("a ratio of two metrics is above 0, so its bound must be")
        if self.within is not None and self.on_value:
            raise ValueError("within is for changes: for a value use between")
        return self


def digest_of(content: Mapping[str, Any]) -> str:
    """The SHA-256 digest of a claim, whatever the order of its keys."""
    return hashlib.sha256(json.dumps(content, sort_keys=True).encode()).hexdigest()


def claims_of(study: Study) -> dict[str, dict[str, Any]]:
    """The claims of a study as they stand in its file, as JSON values.

    Defaults are left out, so that a claim stays the same whatever keys there will be.
    """
    return {
        name: _plain(claim.model_dump(mode="json", by_alias=True, exclude_unset=True))
        for name, claim in study.file.claim.items()
    }


def _plain(value: Any) -> Any:
    """Limits as they were written."""
    if isinstance(value, dict) and set(value) == {"number", "unit", "text"}:
        return value["text"]
    if isinstance(value, dict):
        return {key: _plain(item) for key, item in value.items()}
    return [_plain(item) for item in value] if isinstance(value, list) else value


def check_claims(
    file: StudyFile, configurations: list[str], units: dict[str, str]
) -> Iterator[Problem]:
    """Mistakes in claims: names that are not there, and bounds in another unit.

    ``units`` are those of all metrics, by the name that a claim can use.
    """
    for name, claim in file.claim.items():
        key = f"claim.{name}"
        for field in ("configuration", "against"):
            wanted = getattr(claim, field)
            if wanted is not None and wanted not in configurations:
                hint = closest(wanted, configurations)
                yield Problem(f"{key}.{field}", f'no configuration "{wanted}"; {hint}')
        if claim.bench is not None and claim.bench not in file.bench:
            hint = closest(claim.bench, list(file.bench) or ["none is named"])
            yield Problem(f"{key}.bench", f'no bench "{claim.bench}"; {hint}')
        for field in ("metric", "ratio_to"):
            wanted = getattr(claim, field)
            if wanted is not None and wanted not in units:
                hint = closest(wanted, list(units))
                yield Problem(f"{key}.{field.replace('_', '-')}", f'no metric "{wanted}"; {hint}')
        if claim.metric in units:
            yield from _check_limits(key, claim, units)


def _check_limits(key: str, claim: Claim, units: dict[str, str]) -> Iterator[Problem]:
    unit = units[claim.metric]
    allowed = {unit} if claim.on_value else {"%", TIMES, unit}
    if claim.ratio_to is not None:
        allowed = {"", TIMES}
    elif claim.metric == INDEX:
        allowed = {"%", TIMES}
    for limit in claim.limits:
        if limit.unit not in allowed:
            named = " or ".join(f'"{u}"' if u else "a plain number" for u in sorted(allowed))
            text = f'the bound "{limit.text}" must be in {named} for {claim.metric}'
            yield Problem(key, text)


def metric_names(file: StudyFile) -> dict[str, str]:
    """All names that a claim can use for a metric, with the unit."""
    found: dict[str, str] = {INDEX: ""}
    for workload, entry in file.workload.items():
        units = {
            part: metric.unit
            for name, declared in entry.metric.items()
            for part, metric in derive(name, declared).items()
        }
        titles = {
            f"{workload} {metric.title}": metric.unit
            for metric in entry.metric.values()
            if metric.title
        }
        found |= titles | {f"{workload} {part}": unit for part, unit in units.items()}
        if len(units) == 1:
            found[workload] = next(iter(units.values()))
    return found
