"""Combining study files: what is the same, what is new, and what contradicts."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import field
from typing import Any

from ferocal.errors import UsageError
from ferocal.study.configurations import CONTROL
from ferocal.study.load import UNNAMED_BENCH, Study
from ferocal.terms.frozen import dataclass
from ferocal.terms.names import closest

KINDS = ("bench", "configuration", "workload", "factor")
# What of a level or workload decides how it is measured; the rest may differ without harm.
_TOLD = {
    "level": ("switch", "hold", "leave", "environment", "prefix", "verify", "date"),
    "workload": ("command", "shell", "environment", "instructions", "before", "after", "files"),
    "metric": ("source", "kind", "formula", "statistic", "limit"),
}


@dataclass(frozen=True)
class Match:
    """What something of one study is called in the combined one, and whether it is new there."""

    kind: str
    name: str
    target: str
    new: bool


@dataclass
class SourceMap:
    """How one study goes into the combined one; ``levels`` are of factors that it does not have.

    ``benches``, ``configurations`` and ``workloads`` are the new names by the old ones.
    """

    study: Study
    benches: dict[str, str]
    configurations: dict[str, str]
    workloads: dict[str, str]
    levels: dict[str, str]
    entries: list[Match] = field(default_factory=list)


@dataclass(frozen=True)
class CombinedStudy:
    """The tables of the combined study file, how each study goes into it, and what differs."""

    tables: dict[str, Any]
    sources: tuple[SourceMap, ...]
    conflicts: tuple[str, ...]


def parse_mappings(studies: Sequence[Study], given: Sequence[str]) -> list[dict[str, str]]:
    """By study, what was named otherwise: "DIR:bench.old=new", "DIR:factor.driver=r61".

    Raises
    ------
    UsageError
        When a text is not of this form, or names what is not there.
    """
    found: list[dict[str, str]] = [{} for _ in studies]
    names = {str(study.directory): n for n, study in enumerate(studies)}
    for text in given:
        place, colon, rest = text.rpartition(":")
        key, equals, new = rest.partition("=")
        kind, dot, old = key.partition(".")
        if not (colon and equals and dot and new) or kind not in KINDS:
            raise UsageError(
                f'"{text}": write DIR:KIND.OLD=NEW, where KIND is one of {", ".join(KINDS)}'
            )
        if place not in names:
            raise UsageError(
                f'"{text}": {place} is not one of the studies; {closest(place, list(names))}'
            )
        study = studies[names[place]]
        known = {
            "bench": list(study.benches),
            "configuration": list(study.names),
            "workload": list(study.workloads),
        }.get(kind)
        if known is not None and old not in known:
            raise UsageError(f'"{text}": {place} has no {kind} "{old}"; {closest(old, known)}')
        found[names[place]][key] = new
    return found


def combine_files(
    studies: Sequence[Study], mappings: Sequence[Mapping[str, str]], question: str | None
) -> CombinedStudy:
    """The study file of several studies, the first one deciding where they differ.

    Raises
    ------
    UsageError
        When something contradicts so that readings cannot stand beside each other; the message
        says how a mapping mends it.
    """
    combiner = _Combiner(studies, mappings)
    combiner.combine()
    if question is not None:
        combiner.tables["study"]["question"] = question
    if combiner.errors:
        raise UsageError("these studies cannot be combined:\n  " + "\n  ".join(combiner.errors))
    return CombinedStudy(combiner.tables, tuple(combiner.sources), tuple(combiner.conflicts))


class _Combiner:
    """Brings one study after the other into the tables of a combined one."""

    def __init__(self, studies: Sequence[Study], mappings: Sequence[Mapping[str, str]]) -> None:
        self.studies, self.mappings = studies, mappings
        self.raw = [tomllib.loads(study.text) for study in studies]
        self.tables: dict[str, Any] = {}
        self.sources: list[SourceMap] = []
        self.conflicts: list[str] = []
        self.errors: list[str] = []
        self.known: dict[tuple[tuple[str, str], ...], str] = {}

    def combine(self) -> None:
        self.tables["study"] = self._head()
        factors = list(dict.fromkeys(f for study in self.studies for f in study.file.factor))
        for name in ("bench", "factor", "workload"):
            self.tables[name] = {}
        named: dict[str, dict[str, str]] = {}
        for n, study in enumerate(self.studies):
            source = SourceMap(study, {}, {}, {}, self._missing_levels(n, factors))
            self.sources.append(source)
            self._add_benches(n, source)
            self._add_factors(n)
            self._add_workloads(n, source)
            self._add_configurations(n, source, factors, named)
        self.tables["configuration"] = {
            "design": "listed",
            "baseline": self.sources[0].configurations[self.studies[0].baseline],
            "named": named,
        }
        for name in ("claim", "preference", "rate"):
            merged = self._first_of(name)
            if merged:
                self.tables[name] = merged

    def _head(self) -> dict[str, Any]:
        heads = [raw["study"] for raw in self.raw]
        in_rounds = [h for h in heads if h.get("schedule", "rounds") == "rounds"]
        head = dict((in_rounds or heads)[0])
        for key in ("question", "margin"):
            head[key] = heads[0][key]
        for n, other in enumerate(heads[1:], 1):
            for key in ("margin", "schedule", "seed"):
                if other.get(key) != heads[0].get(key) and key != "seed":
                    values = [h.get(key, "rounds") for h in (heads[0], other)]
                    self._tell(n, f"{key} is {values[1]} here but {values[0]} in the first study")
        if any(head.get("control") for head in heads) and in_rounds:
            head["control"] = True
        return head

    def _tell(self, n: int, text: str) -> None:
        self.conflicts.append(f"{self.studies[n].directory}: {text}")

    def _refuse(self, n: int, text: str) -> None:
        self.errors.append(f"{self.studies[n].directory}: {text}")

    def _target(self, n: int, kind: str, name: str) -> str:
        return self.mappings[n].get(f"{kind}.{name}", name)

    def _missing_levels(self, n: int, factors: Sequence[str]) -> dict[str, str]:
        """The level of every factor that a study does not have."""
        found = {}
        for factor in factors:
            if factor in self.studies[n].file.factor:
                continue
            level = self.mappings[n].get(f"factor.{factor}")
            if level is None:
                place = self.studies[n].directory
                self._refuse(
                    n, f"has no factor {factor}: say which level it had, --map {place}:factor."
                    f"{factor}=LEVEL",
                )  # fmt: skip
            found[factor] = level or ""
        return found

    def _add_benches(self, n: int, source: SourceMap) -> None:
        raw = self.raw[n].get("bench", {})
        for bench in self.studies[n].benches:
            target = self._target(n, "bench", bench)
            table = raw.get(bench, {})
            self._enter(source, "bench", bench, target, target not in self.tables["bench"])
            source.benches[bench] = target
            here = self.tables["bench"].setdefault(target, {})
            facts = here.get("facts", {})
            for name, value in table.get("facts", {}).items():
                if facts.get(name, value) != value:
                    self._refuse(
                        n, f"bench {bench} has {name} {value!r}, and {facts[name]!r} there: "
                        "another machine needs another name, "
                        f"--map {self.studies[n].directory}:bench.{bench}=NAME",
                    )  # fmt: skip
            _fill(here, table)
        if tuple(self.studies[n].benches) == (UNNAMED_BENCH,) and len(self.studies) > 1:
            self._tell(n, f'its bench has no name; "{source.benches[UNNAMED_BENCH]}" is assumed')

    def _add_factors(self, n: int) -> None:
        for factor, table in self.raw[n]["factor"].items():
            here = self.tables["factor"].setdefault(factor, {"level": {}})
            for name, level in table["level"].items():
                known = here["level"].get(name)
                if known is not None:
                    self._compare(n, "level", f"{factor}={name}", known, level)
                _fill(here["level"].setdefault(name, {}), level)
            _fill(here, {key: value for key, value in table.items() if key != "level"})
        for factor, level in self.sources[n].levels.items():
            self.tables["factor"].setdefault(factor, {"level": {}})["level"].setdefault(level, {})

    def _compare(self, n: int, kind: str, name: str, here: Any, there: Any) -> None:
        for key in _TOLD[kind]:
            if key in here and key in there and here[key] != there[key]:
                self._tell(n, f"{key} of {name} differs from the first study")

    def _add_workloads(self, n: int, source: SourceMap) -> None:
        families = {w.sized_workload or name for name, w in self.studies[n].workloads.items()}
        for name, table in self.raw[n]["workload"].items():
            if name not in families:
                continue
            target = self._target(n, "workload", name)
            known = self.tables["workload"].get(target)
            self._enter(source, "workload", name, target, known is None)
            source.workloads[name] = target
            if known is None:
                self.tables["workload"][target] = _copied(table)
                continue
            self._compare(n, "workload", name, known, table)
            for metric, spec in table["metric"].items():
                here = known["metric"].setdefault(metric, _copied(spec))
                for key in ("unit", "better"):
                    if here.get(key) != spec.get(key):
                        self._refuse(
                            n, f"{name} {metric} has {key} {spec.get(key)!r}, and "
                            f"{here.get(key)!r} there: name the workload otherwise, --map "
                            f"{self.studies[n].directory}:workload.{name}=NAME",
                        )  # fmt: skip
                self._compare(n, "metric", f"{name} {metric}", here, spec)
        for sized, entry in self.studies[n].workloads.items():
            if entry.sized_workload is not None:
                target = source.workloads[entry.sized_workload]
                source.workloads[sized] = f"{target}{sized.removeprefix(entry.sized_workload)}"

    def _add_configurations(
        self, n: int, source: SourceMap, factors: Sequence[str], named: dict[str, dict[str, str]]
    ) -> None:
        for configuration in self.studies[n].configurations:
            if configuration.name == CONTROL:
                source.configurations[CONTROL] = self._control(n, source)
                continue
            levels = {f: configuration.levels.get(f, source.levels.get(f, "")) for f in factors}
            key = tuple(levels.items())
            target = self._target(n, "configuration", configuration.name)
            target = self.known.setdefault(key, target)
            if named.get(target, levels) != levels:
                self._refuse(
                    n, f"{configuration.name} is another combination of levels there: --map "
                    f"{self.studies[n].directory}:configuration.{configuration.name}=NAME",
                )  # fmt: skip
            self._enter(source, "configuration", configuration.name, target, target not in named)
            source.configurations[configuration.name] = target
            named[target] = levels

    def _control(self, n: int, source: SourceMap) -> str:
        """What the control arm is: that of the first study, else its baseline again."""
        base = source.configurations[self.studies[n].baseline]
        first = self.sources[0].configurations.get(self.studies[0].baseline)
        return CONTROL if base == first else base

    def _first_of(self, name: str) -> dict[str, Any]:
        """Tables of a kind from all studies; of one name the first, and the others are reported."""
        merged: dict[str, Any] = {}
        for n, raw in enumerate(self.raw):
            for key, table in raw.get(name, {}).items():
                if key in merged and merged[key] != table:
                    self._tell(n, f"{name} {key} differs from the first study and is dropped")
                merged.setdefault(key, table)
        return merged

    def _enter(self, source: SourceMap, kind: str, name: str, target: str, new: bool) -> None:
        source.entries.append(Match(kind, name, target, new))


def _copied(table: Mapping[str, Any]) -> dict[str, Any]:
    return {k: _copied(v) if isinstance(v, dict) else v for k, v in table.items()}


def _fill(here: dict[str, Any], there: Mapping[str, Any]) -> None:
    """Add what is not there yet, table by table."""
    for key, value in there.items():
        if isinstance(value, dict):
            _fill(here.setdefault(key, {}), value)
        else:
            here.setdefault(key, value)


def renames(source: SourceMap) -> Iterator[tuple[str, str, str]]:
    """What is called otherwise in the combined study: kind, old and new name."""
    for kind, names in (
        ("bench", source.benches),
        ("configuration", source.configurations),
        ("workload", source.workloads),
    ):
        yield from ((kind, old, new) for old, new in names.items() if old != new)
