"""The facts of the bench at every visit, compared with those of earlier visits."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from ferocal.bench.commands import prepare
from ferocal.bench.facts import (
    Fact,
    FactChange,
    declared_facts,
    find_changes,
    probe_facts,
)
from ferocal.bench.machine import Machine
from ferocal.errors import BenchChangedError
from ferocal.ledger.reading.visits import read_visits, recorded_facts
from ferocal.ledger.store import Ledger
from ferocal.study.configurations import Configuration
from ferocal.study.load import Study
from ferocal.terms.bounds import beyond
from ferocal.terms.numbers import plain_number

_HARDWARE = frozenset({"hardware", "declared"})
_RESOURCES = frozenset({"resource"})


class Survey:
    """Reads the facts of the bench and knows those of earlier visits."""

    def __init__(self, study: Study, ledger: Ledger, machine: Machine) -> None:
        self._study = study
        self._machine = machine
        self._first: list[Fact] | None = None
        self._by_configuration: dict[str, list[Fact]] = {}
        self._remarked: set[str] = set()
        self._explained = frozenset(
            name for factor in study.file.factor.values() for name in factor.explains
        )
        recorded = recorded_facts(ledger)
        for visit in read_visits(ledger).values():
            if visit.bench == study.bench:
                recorded_then = [Fact(**fact) for fact in recorded[visit.facts_id]]
                self._remember(visit.configuration, self._as_explained(recorded_then))

    def look(
        self, configuration: Configuration, context: Mapping[str, str]
    ) -> tuple[list[Fact], list[str]]:
        """The facts of this visit, and remarks on facts that cannot be compared.

        Raises
        ------
        BenchChangedError
            When a hardware fact differs from the first visit's, or a resource from what
            the same configuration had before.
        """
        study = self._study
        environment = {**context, **configuration.environment}
        facts = [
            *self._machine.facts(),
            *declared_facts(study.bench_table.facts, "study file"),
            *declared_facts(configuration.facts, "study file, level"),
            *probe_facts(
                self._machine,
                study.bench_table,
                environment,
                configuration.prefix,
            ),
        ]
        facts = self._as_explained(
            [replace(fact, value=study.mask.value(fact.value)) for fact in facts]
        )
        remarks = self._compare(configuration.name, facts)
        self._remember(configuration.name, facts)
        return facts, remarks

    def _compare(self, name: str, facts: list[Fact]) -> list[str]:
        changes = find_changes(self._first or (), facts, _HARDWARE)
        changes += find_changes(self._by_configuration.get(name, ()), facts, _RESOURCES)
        certain = [change for change in changes if change.comparable]
        if certain:
            listed = "\n".join(f"  {change}" for change in certain)
            raise BenchChangedError(
                f'the bench "{self._study.bench}" has changed since this study began:\n{listed}\n'
                "put it back, or begin a new study: these scores would not be comparable. Where a "
                "factor brings the change, say so in the study file, and it counts as a resource "
                f"of the configuration:\n{self._allowing(certain)}"
            )
        fresh = [change for change in changes if change.name not in self._remarked]
        self._remarked |= {change.name for change in fresh}
        return [
            f"{change}; it was read differently, so only the wording may differ: "
            "declare it under [bench.NAME] facts to settle this"
            for change in fresh
        ]

    def _as_explained(self, facts: list[Fact]) -> list[Fact]:
        """Hardware that a factor explains is a resource, which a configuration may be given."""
        return [
            replace(fact, kind="resource")
            if fact.kind == "hardware" and fact.name in self._explained
            else fact
            for fact in facts
        ]

    def _allowing(self, changes: list[FactChange]) -> str:
        """The lines of the study file that would allow these changes."""
        factor = next(iter(self._study.file.factor))
        names = json.dumps([change.name for change in changes], ensure_ascii=False)
        return f"  [factor.{factor}]\n  explains = {names}"

    def _remember(self, configuration: str, facts: list[Fact]) -> None:
        self._first = self._first or facts
        self._by_configuration.setdefault(configuration, facts)

    def probe_conditions(self, environment: Mapping[str, str]) -> dict[str, Any]:
        """What the probes of conditions in the study file read now."""
        found: dict[str, Any] = {}
        for name, probe in self._study.bench_table.probe.items():
            if probe.kind != "condition":
                continue
            completed = self._machine.run(prepare(probe, self._machine.place, environment))
            text = completed.text.strip()
            try:
                number = plain_number(text) if completed.failure is None else None
                # What is beyond all bounds is a word, not an amount.
                wild = number is not None and (beyond(number) or number != number)
                found[name] = text if wild else number
            except ValueError:
                found[name] = text
        return found
