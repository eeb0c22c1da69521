"""On which bench of the study this machine is, as far as its facts show."""

from __future__ import annotations

from collections.abc import Iterable

from ferocal.bench.facts import Fact, find_changes, read_facts
from ferocal.errors import UsageError
from ferocal.ledger.opening import LEDGER_FILE, read_ledger
from ferocal.ledger.reading.visits import read_visits, recorded_facts
from ferocal.study.benches import Bench
from ferocal.study.load import Study
from ferocal.terms.wording import listed

_HARDWARE = frozenset({"hardware"})


def find_bench(study: Study, name: str | None) -> Study:
    """The study on the bench of that name, or on the one whose facts are this machine's.

    A bench is ruled out by a hardware fact that is not this machine's: one that was recorded
    there, or one that the study file declares and Ferocal can read. It is recognised when it is
    the only one left and at least one such fact agrees.

    Raises
    ------
    UsageError
        When there is no such bench, when its declared facts are not this machine's, or when
        the facts do not show which one this is.
    """
    facts = read_facts()
    if name is not None:
        chosen = study.on(name)
        wrong = _disagreeing(chosen.bench_table, facts) if chosen.on_this_machine else []
        if wrong:
            raise UsageError(f'this machine is not the bench "{name}": {"; ".join(wrong)}')
        return chosen
    if len(study.benches) == 1:
        return study.on(study.benches[0])
    recorded = _recorded_facts(study)
    possible, recognised = [], []
    for bench in study.benches:
        there = study.on(bench)
        table = there.bench_table
        if not there.on_this_machine:
            possible.append(bench)
            continue
        seen = recorded.get(bench, [])
        if _disagreeing(table, facts) or find_changes(seen, facts, _HARDWARE):
            continue
        possible.append(bench)
        if _agreeing(table, facts) or any(fact.kind in _HARDWARE for fact in seen):
            recognised.append(bench)
    if len(possible) == 1 and possible == recognised:
        return study.on(possible[0])
    if not possible:
        raise UsageError(
            f"this machine is none of the benches {listed(study.benches)} (its hardware differs): "
            "declare a bench for it"
        )
    raise UsageError(
        f"this machine may be {_either(possible)}: say which with --bench, or declare a fact "
        "that Ferocal can read, such as processor (`ferocal inspect` lists them)"
    )


def _recorded_facts(study: Study) -> dict[str, list[Fact]]:
    """The facts of the first visit to each bench, as they were recorded."""
    if not (study.directory / LEDGER_FILE).exists():
        return {}
    with read_ledger(study.directory) as ledger:
        recorded = recorded_facts(ledger)
        visits = read_visits(ledger).values()
        first: dict[str, list[Fact]] = {}
        for visit in visits:
            facts = [Fact(**fact) for fact in recorded[visit.facts_id]]
            if facts:
                first.setdefault(visit.bench, facts)
    return first


def _disagreeing(table: Bench, facts: Iterable[Fact]) -> list[str]:
    """Declared facts that can be read here and read otherwise, in words."""
    return [
        f'{fact.name} is "{fact.value}", the study file says "{table.facts[fact.name]}"'
        for fact in facts
        if fact.name in table.facts and str(table.facts[fact.name]) != fact.value
    ]


def _agreeing(table: Bench, facts: Iterable[Fact]) -> bool:
    return any(str(table.facts.get(fact.name)) == fact.value for fact in facts)


def _either(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} or {names[-1]}"
