"""What ``ferocal inspect --json`` prints, of the study and of what else it looks at."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ferocal.documents.objects.base import Object, key

if TYPE_CHECKING:
    from ferocal.answers.inspect import ConfigurationView, Inspection
    from ferocal.ledger.reading.integrity import Integrity


class FactObject(Object):
    """A fact."""

    name: str = key("what it is of")
    fact: str = key("the fact", "value")
    kind: str = key("`hardware`, `resource`, `software` or `declared`")
    source: str = key("who says so")


class BenchObject(Object):
    """A bench."""

    name: str = key("its name", lambda bench: bench[0])
    facts: list[FactObject] = key("what the study file declares of it", lambda bench: bench[1])


def _checks(view: ConfigurationView) -> list[str]:
    return [f"{level} {expected}" for level, expected in view.checks]


class ConfigurationObject(Object):
    """A configuration."""

    name: str = key("its name")
    levels: dict[str, str] = key("its levels")
    environment: dict[str, str] = key("variables that it sets")
    prefix: list[str] = key("what stands before commands")
    checks: list[str] = key("levels that are checked, and what is expected", _checks)


class LevelObject(Object):
    """A level of a factor."""

    factor: str = key("of which factor")
    level: str = key("its name")
    brings: list[str] = key("what brings a bench there")
    checks: list[str] = key("what proves that it is active")


class KnownNoise(Object):
    """The latest look at the noise of a bench."""

    bench: str = key("of which bench")
    recorded_at: str = key("when, ISO 8601", "at")
    figures: dict[str, Any] = key("what was seen")


def _workloads(inspection: Inspection) -> dict[str, Any]:
    return {
        name: inspection.mask.value(workload.model_dump(mode="json", by_alias=True))
        for name, workload in inspection.workloads.items()
    }


class InspectionObject(Object):
    """`ferocal inspect --json`."""

    question: str = key("the question of the study")
    margin: float = key("its margin, a share")
    baseline: str = key("its baseline")
    schedule: str = key("`rounds`, `return` or `once`")
    benches: list[BenchObject] = key("every bench", lambda i: i.benches.items())
    machine: list[FactObject] = key("what can be read of this machine")
    configurations: list[ConfigurationObject] = key("every configuration")
    factor_levels: list[LevelObject] = key("every level", "levels")
    workloads: dict[str, Any] = key(
        "as the study file has them, with what it leaves out", _workloads
    )
    impossible: list[str] = key("configurations that are skipped")
    order: list[list[str]] = key("the order of the configurations in every round", "rounds")
    runs: int = key("runs on a bench")
    warmups: int = key("warm-ups on a bench")
    looks: list[KnownNoise] = key("the latest look at the noise of every bench")


class OverheadObject(Object):
    """`ferocal inspect --overhead --json`."""

    wall: float = key("wall time of an empty program", unit="s")
    cpu: float | None = key("its CPU time", unit="s")
    peak_memory: float | None = key("its peak memory", unit="bytes")
    runs: int = key("how many runs the medians are of")


def _is_whole(found: Integrity) -> bool:
    return not found.broken


class IntegrityObject(Object):
    """`ferocal inspect --integrity --json`."""

    whole: bool = key("whether all is as it was written, but for excluded runs", _is_whole)
    counts: dict[str, int] = key("how many rows there are, by what they are")
    broken: list[str] = key("what is damaged, in words, at most a hundred things")
    excluded_damage: list[str] = key("damaged runs that are excluded", "excluded")
    sealed_at: str | None = key(
        "when rows of an earlier version were sealed as they were, null where all were sealed as "
        "they were written"
    )
    ledger: str = key("what tells this ledger from others; copies have the same", "identity.id")
    entries: int = key("how many entries it has: they only become more", "identity.entries")
    missing_entries: list[str] = key(
        "entries found to be missing, whenever it was checked here", "losses"
    )


class KeptKind(Object):
    """A kind of what a ledger holds."""

    name: str = key("what it is")
    count: int = key("how many there are")
    bytes: int = key("how large they are", unit="bytes")
    about: str = key("what they may tell")


class KeptObject(Object):
    """`ferocal inspect --kept --json`."""

    path: str = key("the ledger", lambda held: str(held.path))
    bytes: int = key("how large its file is", unit="bytes")
    open_to_others: bool = key("whether other users can read it")
    kinds: list[KeptKind] = key("what there is")


class RoundsNeeded(Object):
    """The rounds that a change needs."""

    change: float = key("the change, a share", lambda row: row["change"])
    runs: int = key("runs per visit", lambda row: row["runs"])
    rounds: int | None = key("the rounds; null: too many", lambda row: row["rounds"])


def figure(meaning: str, name: str, *, unit: str | None = None) -> Any:
    """A field that is one of the figures of a look."""
    return key(meaning, lambda look: look[0][name], unit=unit)


class NoiseObject(Object):
    """`ferocal inspect --noise --json`."""

    bench: str | None = key(
        "with which bench it was kept, null without a study", lambda look: look[1]
    )
    seconds: float = figure("how long it took", "seconds", unit="s")
    stretches: int = figure("stretches of time, which stand for visits", "stretches")
    runs: int = figure("processes in all", "runs")
    loop_seconds: float = figure("how long the loop takes, its median", "loop_seconds", unit="s")
    run_sd: float = figure("spread within stretches (SD of natural logarithms)", "run_sd")
    stretch_sd: float = figure("what stretches add to that", "stretch_sd")
    rounds_needed: list[RoundsNeeded] = figure("what changes need", "rounds")
    others: float | None = figure("share of the processors that others took", "others")
    stolen: float | None = figure("share that the host withheld", "stolen")
    busiest: list[str] = figure("names of the busiest others", "busiest")
    clock_mhz: list[float] | None = figure("lowest and highest clock", "clock_mhz", unit="MHz")
    governor: str | None = figure("the frequency governor", "governor")
    on_mains: bool | None = figure("whether it is on mains", "on_mains")
    timer_seconds: float = figure("the smallest step of the clock", "timer_seconds", unit="s")
    unreadable: list[str] = figure("conditions that cannot be read here", "unreadable")
    improve_first: list[str] = figure("what to change first, in sentences", "first")
