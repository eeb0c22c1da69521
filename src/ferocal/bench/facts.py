"""Facts about a bench: hardware, which must not change, and the software on it."""

from __future__ import annotations

import platform
import re
import sys
from collections.abc import Iterable, Mapping
from typing import Literal

import psutil

from ferocal.bench import _linux
from ferocal.bench.commands import prepare
from ferocal.bench.execution import Executor
from ferocal.study.benches import Bench, FactValue
from ferocal.terms.frozen import dataclass

FactKind = Literal["declared", "hardware", "resource", "software"]


@dataclass(frozen=True)
class Fact:
    """Something known about the bench at one time, and how it was read."""

    name: str
    value: str
    kind: FactKind
    source: str


@dataclass(frozen=True)
class FactChange:
    """A fact that is not what it was; ``comparable`` unless it was read in another way."""

    name: str
    before: str
    now: str
    comparable: bool

    def __str__(self) -> str:
        return f'{self.name} is "{self.now}", it was "{self.before}"'


def read_facts() -> list[Fact]:
    """The facts of this machine that can be read without a command."""
    system = sys.platform
    general: dict[FactKind, dict[str, str | None]] = {
        "hardware": {
            "processor": platform.processor() or platform.machine(),
            "architecture": platform.machine(),
            "cores": str(psutil.cpu_count(logical=False) or ""),
        },
        "resource": {
            "threads": str(psutil.cpu_count() or ""),
            "memory": f"{psutil.virtual_memory().total / 2**30:.1f} GiB",
        },
        "software": {
            "system": f"{platform.system()} {platform.release()}",
            "release": _release(),
            "Python": f"{platform.python_implementation()} {platform.python_version()}",
        },
    }
    special: dict[FactKind, dict[str, str | None]] = {
        "hardware": _linux.hardware_facts(),
        "resource": _linux.resource_facts(),
        "software": _linux.software_facts(),
    }
    found: dict[str, Fact] = {}
    for source, kinds in (("portable", general), (f"{system} files", special)):
        for kind, facts in kinds.items():
            for name, value in facts.items():
                if value:
                    found[name] = Fact(name, value, kind, source)
    return list(found.values())


def declared_facts(facts: Mapping[str, FactValue], source: str) -> list[Fact]:
    """Facts that the study file declares."""
    kind: FactKind = "declared" if source == "study file" else "resource"
    return [Fact(name, str(value), kind, source) for name, value in facts.items()]


def probe_facts(
    executor: Executor,
    bench: Bench,
    environment: Mapping[str, str],
    prefix: tuple[str, ...],
) -> list[Fact]:
    """Facts that the study's own probes read, in the environment of a configuration."""
    found: list[Fact] = []
    for name, probe in bench.probe.items():
        if probe.kind == "condition":
            continue
        before = prefix if probe.with_prefix else ()
        completed = executor.run(prepare(probe, executor.place, environment, before))
        value = completed.text.strip()
        if completed.failure is not None:
            value = f"not read: the probe {completed.failure}"
        found.append(Fact(name, value, probe.kind, "probe of the study"))
    return found


def find_changes(
    before: Iterable[Fact], now: Iterable[Fact], kinds: frozenset[str]
) -> list[FactChange]:
    """Facts of some kinds that are known twice and differ.

    The same fact read in two ways may differ in wording only: such a change is marked as
    not comparable, unless the study declares the fact, which then stands for both.
    """
    now = list(now)
    reference = {fact.name: fact for fact in before if fact.kind in kinds}
    declared = {fact.name for fact in now if fact.kind == "declared"}
    return [
        FactChange(fact.name, reference[fact.name].value, fact.value, comparable)
        for fact in now
        if fact.kind in kinds and fact.name in reference
        for comparable in [reference[fact.name].source == fact.source]
        if not _same(reference[fact.name].value, fact.value)
        and (comparable or fact.name not in declared)
    ]


def _same(before: str, now: str) -> bool:
    """Whether two values are equal, amounts with the same unit up to a hundredth.

    The memory that a kernel reports differs a little from boot to boot.
    """
    amounts = [re.fullmatch(r"([0-9.]+) ([A-Za-z]+)", value) for value in (before, now)]
    if before == now or amounts[0] is None or amounts[1] is None:
        return before == now
    low, high = sorted(float(amount[1]) for amount in amounts if amount is not None)
    return amounts[0][2] == amounts[1][2] and high - low <= 0.01 * high


def _release() -> str:
    if sys.platform == "linux":
        try:
            return platform.freedesktop_os_release().get("PRETTY_NAME", "")
        except OSError:
            return ""  # a system without the file: the fact is left out
    return platform.version()
