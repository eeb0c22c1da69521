"""The study file as pydantic models: one class per table of the file."""

from __future__ import annotations

import datetime
import itertools
from typing import Annotated, Any, ClassVar, Literal, NamedTuple, Self

from pydantic import (
    AfterValidator,
    BeforeValidator,
    Field,
    PrivateAttr,
    model_validator,
)

from ferocal.study.base import (
    Accepting,
    ArmName,
    Command,
    Name,
    StudyTable,
    VariableName,
    Variables,
    Words,
)
from ferocal.study.benches import Bench, FactValue
from ferocal.study.checks import Check, CommandCheck
from ferocal.study.claims import Claim
from ferocal.study.metrics import Metric
from ferocal.study.quantities import Declared, Seconds, Share
from ferocal.terms.bounds import LARGEST, SMALLEST
from ferocal.terms.names import closest
from ferocal.terms.wording import listed


class Step(Command):
    """Something that changes the bench; tried again ``retries`` times when it fails."""

    timeout: Seconds = 600.0
    retries: int = Field(default=0, ge=0, le=100)


def _check_parameter(name: str) -> str:
    if not name.isidentifier() or name == "python":
        raise ValueError(f'"{name}" is not a parameter: use letters, digits and "_"')
    return name


def _filled(value: Any, sign: str, text: str) -> Any:
    """A text, or a table or list of texts, with a placeholder filled in."""
    if isinstance(value, str):
        return value.replace(sign, text)
    if isinstance(value, dict):
        return {key: item.replace(sign, text) for key, item in value.items()}
    return tuple(item.replace(sign, text) for item in value)


def _as_tables(value: Any) -> Any:
    """Let one command, one table, or a list of them stand for a tuple of tables."""
    items = value if isinstance(value, (list, tuple)) else [value]
    return tuple({"command": item} if isinstance(item, str) else item for item in items)


Steps = Annotated[tuple[Step, ...], BeforeValidator(_as_tables)]


class Level(StudyTable):
    """One value of a factor: what brings it, proves it and takes it away again.

    ``switch`` brings the bench there, or ``hold`` says what an operator has to do;
    ``leave`` is run before going elsewhere; ``renew`` begins a new visit without
    switching. ``takes`` states how long switching to it lasts. ``quantity`` is what the level
    amounts to where its factor can be counted, such as 4 cores; ``quantities`` are other amounts
    that go with it, such as a price. ``date`` is when it came out. With ``reboot`` the bench is
    started anew behind ``switch`` and ``renew``.
    """

    environment: Variables = {}
    prefix: Words = ()
    switch: Steps = ()
    leave: Steps = ()
    renew: Steps = ()
    hold: str = ""
    verify: tuple[Check, ...] = ()
    facts: dict[str, FactValue] = {}
    takes: Seconds | None = None
    quantity: float | None = Field(default=None, ge=SMALLEST, le=LARGEST)
    quantities: dict[Name, Declared] = {}
    date: datetime.date | None = None
    note: str = ""
    reboot: bool = False


class Factor(Accepting):
    """Something that is varied; ``explains`` names software facts that it changes.

    With an ``order`` its levels are releases that follow each other: by the dates of the levels
    ("time"), or as they stand in the file. A list names those that do, in their order, where
    other levels stand beside them. Caveats that would leave no verdict on its levels can be
    accepted with a reason.
    """

    level: dict[Name, Level] = Field(min_length=1)
    explains: tuple[str, ...] = ()
    order: Literal["time", "file"] | tuple[Name, ...] | None = None

    @model_validator(mode="after")
    def _order_has_dates(self) -> Self:
        missing = [name for name, level in self.level.items() if level.date is None]
        if self.order == "time" and missing:
            raise ValueError(
                f'order = "time" needs a date for every level; {listed(missing[:3])} '
                f"{'has' if len(missing) == 1 else 'have'} none"
            )
        return self

    @model_validator(mode="after")
    def _order_names_levels(self) -> Self:
        named = self.order if isinstance(self.order, tuple) else tuple(self.level)
        for name in named:
            if name not in self.level:
                raise ValueError(f'order: no level "{name}"; {closest(name, list(self.level))}')
        if len(set(named)) < len(named):
            raise ValueError("`order` names a level twice")
        return self

    @property
    def ordered(self) -> list[str]:
        """The levels in their order; those of one date as they stand in the file."""
        if isinstance(self.order, tuple):
            return list(self.order)
        if self.order != "time":
            return list(self.level)
        return sorted(self.level, key=lambda name: self.level[name].date or datetime.date.max)


class Configurations(StudyTable):
    """Which combinations of levels are compared, and against which one."""

    design: Literal["full", "one-factor", "listed"] = "full"
    baseline: ArmName | dict[str, str] | None = None
    named: dict[ArmName, dict[str, str]] = {}
    impossible: tuple[dict[str, str], ...] = ()

    @model_validator(mode="after")
    def _named_fits_design(self) -> Configurations:
        if self.design == "listed" and not self.named:
            raise ValueError('design = "listed" needs tables [configuration.named.NAME]')
        if self.design != "listed" and self.named:
            raise ValueError('named configurations need design = "listed"')
        return self


VersionCommand = Annotated[
    Command, BeforeValidator(lambda v: {"command": v} if isinstance(v, (str, list)) else v)
]


class Sizes(StudyTable):
    """Sizes of the problem: ``{parameter}`` in the command stands for each of the values."""

    parameter: Annotated[str, AfterValidator(_check_parameter)]
    values: tuple[Annotated[float, Field(ge=SMALLEST, le=LARGEST)], ...] = Field(min_length=2)

    @model_validator(mode="after")
    def _values_ascend(self) -> Self:
        if any(b <= a for a, b in itertools.pairwise(self.values)):
            raise ValueError("values must be in ascending order, without repeats")
        return self


class Size(NamedTuple):
    """The size of a problem: the workload that has several, its parameter, and the value."""

    workload: str
    parameter: str
    value: float


class Workload(Command, Accepting):
    """What is run, and what is read from it.

    ``version`` is a command that prints what the software says of itself; ``files`` are
    what the workload works on, of which digests are kept. ``takes`` states its duration.
    ``before`` and ``after`` are done around every run, outside of what is measured. A run that
    fails is immediately taken again, up to ``retakes`` times. ``noise`` is that between visits
    (SD), as the analyst asserts. Workloads of one ``group`` stand together in every table; in an
    index over workloads each has its ``weight``. ``baseline`` is the configuration with which the
    others are compared in it, unless it is that of the study. With ``sizes`` it is one workload for
    each of them, all in every visit.
    Caveats that would leave no verdict on it can be accepted with a reason.
    A workload without command is done by hand: an operator follows its ``instructions``, and
    types what is read, or takes the time.
    """

    may_be_absent: ClassVar[bool] = True

    command: str | tuple[str, ...] = ()
    instructions: str = ""

    timeout: Seconds = 600.0
    environment: Variables = {}
    version: VersionCommand | None = None
    files: tuple[str, ...] = ()
    takes: Seconds | None = None
    warmups: int = Field(default=0, ge=0, le=1000)
    before: Steps = ()
    after: Steps = ()
    retakes: int = Field(default=0, ge=0, le=100)
    noise: Share | None = None
    group: str = ""
    baseline: str = ""
    weight: float = Field(default=1.0, ge=0, le=LARGEST)
    sizes: Sizes | None = None
    metric: dict[Name, Metric] = Field(min_length=1)
    _size: Size | None = PrivateAttr(default=None)

    @property
    def size(self) -> Size | None:
        """Which size of a workload with several it is, None for any other."""
        return self._size

    @property
    def sized_workload(self) -> str | None:
        """The workload of which it is one size, None for any other."""
        return None if self._size is None else self._size.workload

    def of_size(self, name: str, value: float) -> Workload:
        """The workload of that name with one of its sizes."""
        assert self.sizes is not None
        sign, text = f"{{{self.sizes.parameter}}}", f"{value:.15g}"
        filled = {
            key: _filled(getattr(self, key), sign, text)
            for key in ("command", "environment", "instructions", "files")
        }
        sized = self.model_copy(update={**filled, "sizes": None})
        sized._size = Size(name, self.sizes.parameter, value)
        return sized

    @property
    def section(self) -> str:
        """With which others it stands together in tables: its group, or the other sizes."""
        return self.group or self.sized_workload or ""

    @property
    def read(self) -> dict[str, Metric]:
        """The metrics that are read, and not computed from others."""
        return {name: metric for name, metric in self.metric.items() if metric.formula is None}

    @property
    def by_hand(self) -> bool:
        """Whether an operator does it, instead of a command."""
        return self.command == ()

    @property
    def asked(self) -> dict[str, Metric]:
        """The metrics that an operator reads, and the traces of which he names the file.

        A trace without a source is loaded at another time.
        """
        return {
            name: metric
            for name, metric in self.read.items()
            if (metric.source is None and metric.kind == "value")
            or (self.by_hand and metric.source is not None)
        }

    @model_validator(mode="after")
    def _parameter_is_used(self) -> Self:
        if self.sizes is not None:
            sign = f"{{{self.sizes.parameter}}}"
            told = (
                self.instructions if self.by_hand else (self.command, self.environment, self.files)
            )
            if sign not in repr(told):
                raise ValueError(
                    f'sizes: neither command nor file names contain "{sign}", so every size would '
                    "run the same thing"
                )
        return self

    @model_validator(mode="after")
    def _totals_exist(self) -> Self:
        for name, metric in self.metric.items():
            for other in metric.trade_off_with:
                if other not in self.metric or other == name:
                    raise ValueError(
                        f'{name}: trade-off-with names "{other}", which is no other metric of this '
                        "workload"
                    )
            seen, total = {name}, metric.part_of
            while total is not None:
                if total not in self.metric:
                    raise ValueError(
                        f'{name} is part-of "{total}", which is not a metric of this workload'
                    )
                if total in seen:
                    raise ValueError(f"circular part-of: {name} contains itself")
                seen.add(total)
                total = self.metric[total].part_of
        return self

    @model_validator(mode="after")
    def _hand_has_no_output(self) -> Self:
        for name, metric in self.metric.items():
            if not self.by_hand or metric.source is None:
                continue
            if getattr(metric.source, "file", None) is None:
                raise ValueError(
                    f"this workload has no command, so its metric {name} cannot have a `source`: "
                    "remove the source, or add a command"
                )
        if self.by_hand and self.warmups:
            raise ValueError("warmups need a command; put them into the instructions")
        if self.by_hand and self.retakes:
            raise ValueError("retakes need a command; an operator repeats failed runs")
        return self


class Preference(StudyTable):
    """How much each part counts: weights of workloads, or of groups of them.

    What is not named does not count.
    """

    weights: dict[str, Annotated[float, Field(ge=0, le=LARGEST)]] = Field(min_length=1)

    @model_validator(mode="after")
    def _something_counts(self) -> Self:
        if not any(self.weights.values()):
            raise ValueError("weights: at least one must be above zero")
        return self


class Head(StudyTable):
    """The question, and how much evidence is to be gathered for it.

    ``schedule`` is "rounds" (the default), "return" (every configuration once, then back
    to the baseline) or "once". ``visits`` is the number of visits to a configuration in
    one go under the last two, each begun with ``renew``. With ``control`` the baseline is
    measured a second time in every round, under the name "control". ``noise`` is how much
    visits vary (SD), as the analyst asserts. With ``pad_environment`` the environment of all
    runs has the same size in every configuration, and a random one in every visit.
    ``secrets`` names variables whose values are masked wherever Ferocal keeps or shows them.
    ``prepare`` is done at the beginning of every session that measures, before anything is
    verified, such as to build what the workloads need.
    """

    question: str = Field(min_length=1)
    margin: Share
    schedule: Literal["rounds", "return", "once"] = "rounds"
    rounds: int = Field(default=6, ge=1, le=10_000)
    visits: int = Field(default=1, ge=1, le=1000)
    runs: int = Field(default=2, ge=1, le=10_000)
    control: bool = False
    seed: int = Field(default=1, ge=0)
    noise: Share | None = None
    pad_environment: bool = True
    secrets: tuple[VariableName, ...] = ()
    prepare: Steps = ()

    @model_validator(mode="after")
    def _fits_schedule(self) -> Head:
        if self.schedule != "rounds" and "rounds" in self.model_fields_set:
            raise ValueError(f'schedule = "{self.schedule}" has no rounds; use visits')
        if self.schedule == "rounds" and self.visits > 1:
            raise ValueError('visits need schedule = "once" or "return"; use rounds')
        if self.control and self.schedule != "rounds":
            raise ValueError('control = true needs schedule = "rounds"')
        return self


class ReportTable(StudyTable):
    """How the page of a study is written: ``lead`` is the question that it begins with."""

    lead: Literal["comparison", "series", "ranking", "factors"] | None = None


class StudyFile(StudyTable):
    """A whole study file."""

    study: Head
    bench: dict[Name, Bench] = {}
    factor: dict[Name, Factor] = Field(min_length=1)
    configuration: Configurations = Field(default_factory=Configurations)
    workload: dict[Name, Workload] = Field(min_length=1)
    claim: dict[Name, Claim] = {}
    preference: dict[Name, Preference] = {}
    rate: dict[Name, Declared] = {}
    report: ReportTable = Field(default_factory=ReportTable)

    @model_validator(mode="after")
    def _with_sizes(self) -> Self:
        """One workload for each size, in the place of the one that has several."""
        if all(entry.sizes is None for entry in self.workload.values()):
            return self
        workloads: dict[str, Workload] = {}
        for name, entry in self.workload.items():
            sizes = () if entry.sizes is None else entry.sizes.values
            made = {f"{name}-{v:.15g}": entry.of_size(name, v) for v in sizes} or {name: entry}
            for taken in made.keys() & (workloads.keys() | self.workload.keys() - {name}):
                raise ValueError(f'a size of {name} is called "{taken}", as another workload is')
            workloads |= made
        return self.model_copy(update={"workload": workloads})

    @model_validator(mode="after")
    def _preferences_name_workloads(self) -> Self:
        known = {*self.workload, *(entry.section for entry in self.workload.values())} - {""}
        for name, preference in self.preference.items():
            for key in preference.weights:
                if key not in known:
                    raise ValueError(
                        f'preference {name}: no workload or group "{key}"; '
                        f"{closest(key, sorted(known))}"
                    )
        return self

    @model_validator(mode="after")
    def _running_checks_have_something_to_look_at(self) -> Self:
        by_hand = [name for name, workload in self.workload.items() if workload.by_hand]
        checked = [
            f"{factor}={level}"
            for factor, table in self.factor.items()
            for level, entry in table.level.items()
            if any(not isinstance(check, CommandCheck) for check in entry.verify)
        ]
        if by_hand and checked:
            raise ValueError(
                f"{listed(checked)} checks the running workload, but {listed(by_hand)} is done by "
                "hand: verify the level with a command, or with a hold that the operator confirms"
            )
        return self
