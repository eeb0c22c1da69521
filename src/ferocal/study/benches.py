"""Benches in the study file: the machine, how it is reached, what is read of it and waited for."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated, Literal, Self

from pydantic import AfterValidator, Field, model_validator

from ferocal.errors import Problem
from ferocal.study.base import Command, Name, StudyTable, Words
from ferocal.study.quantities import Declared, Seconds, Share
from ferocal.terms.bounds import LARGEST, SMALLEST
from ferocal.terms.wording import listed

if TYPE_CHECKING:
    from ferocal.study.model import StudyFile

FactValue = str | int | float


class Probe(Command):
    """A command that reads a fact or a condition which Ferocal cannot read itself.

    Hardware must not change; a resource may differ between configurations, which is then
    a caveat; software is recorded; a condition is read before and after every run. A
    command that reads a fact is behind the prefix of a configuration, unless it is not
    ``with_prefix``; one that reads a condition never is.
    """

    with_prefix: bool = True
    kind: Literal["hardware", "resource", "software", "condition"]


class Settle(StudyTable):
    """What is waited for before the runs of a visit, up to ``timeout``.

    ``load_below`` is the load average of a minute, ``temperature_below`` in degrees
    Celsius; ``idle_for`` is how long other processes must use less than a tenth of the
    machine; ``pause`` is waited in any case.
    """

    load_below: float | None = Field(default=None, ge=SMALLEST, le=LARGEST)
    temperature_below: float | None = None
    idle_for: Seconds | None = None
    pause: Seconds | None = None
    timeout: Seconds = 300.0


class Quiet(StudyTable):
    """How much of the processors others may use during a run before it is taken again.

    ``others_below`` is the share that other processes of the machine use, ``stolen_below``
    that which the host of a virtual machine withholds. A run that breaks a rule is kept as
    disturbed, is not used, and is immediately taken again, up to ``retakes`` times.
    """

    others_below: Share | None = None
    stolen_below: Share | None = None
    retakes: int = Field(default=3, ge=0, le=100)


def _check_host(host: str) -> str:
    if not host or host.startswith("-") or any(sign.isspace() for sign in host):
        raise ValueError(f'"{host}" is no host: write a name of your ssh configuration')
    return host


class Bench(StudyTable):
    """One machine that stays the same; facts that Ferocal cannot read itself are declared.

    ``this_machine`` says whether it is the one on which Ferocal runs, whose facts and conditions
    are then the bench's. Where nothing is said, it is if any workload is a command. One with a
    ``host`` is another machine, reached with ``ssh``: commands are run there, in ``directory``,
    and a connection that is lost is tried again for as long as ``reconnect`` says. ``reboot`` is
    the command that starts it anew, for levels that need that, and ``reboots_within`` how long
    that may take. With ``through``, words in front of every command, the bench is a device or
    container that these reach; nothing else is seen of it.
    """

    this_machine: bool | None = None
    host: Annotated[str, AfterValidator(_check_host)] | None = None
    directory: str = "~"
    reconnect: Seconds = 900.0
    reboot: Words = ("sudo", "-n", "systemctl", "reboot")
    reboots_within: Seconds = 900.0
    through: Words = ()
    facts: dict[str, FactValue] = {}
    quantities: dict[Name, Declared] = {}
    probe: dict[Name, Probe] = {}
    settle: Settle = Field(default_factory=Settle)
    quiet: Quiet = Field(default_factory=Quiet)

    @model_validator(mode="after")
    def _check_where(self) -> Self:
        if self.host is not None and self.this_machine:
            raise ValueError("with a host it is not this machine: leave one of the two out")
        far_only = ("directory", "reconnect", "reboot", "reboots_within")
        named = [name.replace("_", "-") for name in far_only if name in self.model_fields_set]
        if self.host is None and named:
            raise ValueError(f"{listed(named)}: for benches with a host")
        if self.through and self.this_machine:
            raise ValueError("what commands reach through others is not this machine")
        return self


def check_benches(file: StudyFile) -> Iterator[Problem]:
    """Mistakes in what is asked of benches that are reached over a connection or through words."""
    near = [name for name, bench in file.bench.items() if bench.host is None]
    for factor, table in file.factor.items():
        for name, level in table.level.items():
            if level.reboot and (near or not file.bench):
                which = listed(near) if near else "this machine"
                yield Problem(
                    f"factor.{factor}.level.{name}.reboot",
                    f"Ferocal runs on {which} itself: only a bench with a host can be started "
                    "anew while it is measured",
                )
    reached = [name for name, bench in file.bench.items() if bench.through]
    for name, workload in file.workload.items():
        for metric, entry in workload.metric.items():
            if reached and isinstance(entry.source, str):
                yield Problem(
                    f"workload.{name}.metric.{metric}.source",
                    f"{entry.source} would be that of `{file.bench[reached[0]].through[0]}` here, "
                    f"not of the work on {reached[0]}: have the workload print it",
                )
