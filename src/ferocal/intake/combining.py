"""Combining studies: their ledgers brought into one, all or nothing, nothing twice."""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

import sqlalchemy as sa

from ferocal.errors import FerocalError, StudyFileError, UsageError
from ferocal.ledger import schema, tables
from ferocal.ledger.opening import LEDGER_FILE, read_ledger
from ferocal.ledger.reading.visits import read_visits, recorded_facts
from ferocal.ledger.store import STORE_ERRORS, Ledger, cause
from ferocal.ledger.upgrading import copy_ledger
from ferocal.ledger.writing.merge import merge_ledgers
from ferocal.ledger.writing.opening import open_ledger
from ferocal.ledger.writing.store import WritableLedger
from ferocal.study.combining import (
    CombinedStudy,
    SourceMap,
    combine_files,
    parse_mappings,
    renames,
)
from ferocal.study.load import STUDY_FILE, load_study
from ferocal.terms.files import scratch_directory
from ferocal.terms.frozen import dataclass

_HARDWARE = "hardware"


@dataclass(frozen=True)
class Brought:
    """What one study has brought: visits, runs, and runs that another one had already."""

    directory: Path
    visits: int
    runs: int
    known_runs: int


def plan_combination(
    directories: Sequence[Path], mappings: Sequence[str], question: str | None
) -> CombinedStudy:
    """How studies go together, with all contradictions reported.

    Raises
    ------
    UsageError
        When fewer than two are named, one twice, or they cannot go together.
    """
    if len({directory.resolve() for directory in directories}) < 2:
        raise UsageError("name at least two studies, each once")
    studies = [load_study(directory) for directory in directories]
    combined = combine_files(studies, parse_mappings(studies, mappings), question)
    further = [*_hardware_conflicts(combined.sources), *_version_conflicts(combined.sources)]
    errors = [text for grave, text in further if grave]
    if errors:
        raise UsageError("these studies cannot be combined:\n  " + "\n  ".join(errors))
    told = (*combined.conflicts, *(text for _, text in further))
    return CombinedStudy(combined.tables, combined.sources, told)


def _hardware_conflicts(sources: Sequence[SourceMap]) -> Iterator[tuple[bool, str]]:
    """Recorded hardware of one bench that is not the same in two studies."""
    seen: dict[tuple[str, str], tuple[str, Path]] = {}
    for source in sources:
        if not (source.study.directory / LEDGER_FILE).exists():
            continue
        with read_ledger(source.study.directory) as ledger:
            facts, visits = recorded_facts(ledger), read_visits(ledger)
        told = set()
        for visit in visits.values():
            bench = source.benches.get(visit.bench, visit.bench)
            for fact in facts[visit.facts_id]:
                key = (bench, fact["name"])
                if fact["kind"] != _HARDWARE or key in told:
                    continue
                told.add(key)
                value, where = seen.setdefault(key, (fact["value"], source.study.directory))
                if value != fact["value"]:
                    yield (
                        True,
                        (
                            f"{source.study.directory}: on bench {visit.bench}, {fact['name']} is "
                            f'"{fact["value"]}", but "{value}" in {where}: give another machine '
                            "another name with --map "
                            f"{source.study.directory}:bench.{visit.bench}=NAME"
                        ),
                    )


def _version_conflicts(sources: Sequence[SourceMap]) -> Iterator[tuple[bool, str]]:
    """Versions of workloads that differ between studies, and when each was measured."""
    versions: dict[str, dict[str, list[str]]] = {}
    for source in sources:
        if not (source.study.directory / LEDGER_FILE).exists():
            yield False, f"{source.study.directory}: no ledger, so no readings"
            continue
        with read_ledger(source.study.directory) as ledger:
            visits = read_visits(ledger).values()
        times = sorted(visit.started_at[:10] for visit in visits if visit.started_at)
        when = f"{times[0]} to {times[-1]}" if times else "times unknown"
        yield False, f"{source.study.directory}: measured {when}"
        for visit in visits:
            for workload, subject in visit.subjects.items():
                version = subject.get("version")
                if version:
                    target = source.workloads.get(workload, workload)
                    where = versions.setdefault(target, {}).setdefault(version, [])
                    if str(source.study.directory) not in where:
                        where.append(str(source.study.directory))
    for workload, found in versions.items():
        if len(found) > 1:
            text = "; ".join(f'"{v}" in {", ".join(where)}' for v, where in found.items())
            yield False, f"{workload} has several versions: {text}"


def combine_studies(combined: CombinedStudy, target: Path) -> list[Brought]:
    """Write the combined study into a new directory; all of it, or nothing.

    Raises
    ------
    UsageError
        When the directory already exists.
    FerocalError
        When something cannot be read or written; the directory is not there then.
    """
    import tomli_w

    target.parent.mkdir(parents=True, exist_ok=True)
    with scratch_directory(target.parent, f".{target.name}-") as scratch:
        if target.exists():
            raise UsageError(f"{target} already exists: name a new directory")
        made = scratch / "study"
        made.mkdir()
        text = tomli_w.dumps(combined.tables)
        try:
            (made / STUDY_FILE).write_text(text, encoding="utf-8")
            _check(made)
            brought = [
                _bring(source, made, scratch / f"{n}") for n, source in enumerate(combined.sources)
            ]
            made.rename(target)
        except (OSError, *STORE_ERRORS) as error:
            why = error.strerror if isinstance(error, OSError) else cause(error)
            raise FerocalError(f"{target}: cannot be written: {why}") from None
    return brought


def _check(made: Path) -> None:
    """Refuse a combined study file that makes no sense, such as levels that contradict."""
    try:
        load_study(made)
    except StudyFileError as error:
        lines = "\n  ".join(f"{problem.key}: {problem.message}" for problem in error.problems)
        raise UsageError(
            f"these studies cannot be combined; the combined study file has mistakes:\n  {lines}"
        ) from None


def _bring(source: SourceMap, made: Path, scratch: Path) -> Brought:
    """Bring one study into the combined ledger, from a copy in which its names are the new ones."""
    directory = source.study.directory
    if not (directory / LEDGER_FILE).exists():
        return Brought(directory, 0, 0, 0)
    scratch.mkdir()
    copy_ledger(directory / LEDGER_FILE, scratch / LEDGER_FILE)
    with open_ledger(made, create=True) as target, open_ledger(scratch) as copy:
        _rename(copy, source, _rounds_so_far(target, copy))
        merged = merge_ledgers(target, copy)
    shutil.rmtree(scratch)
    return Brought(directory, merged.visits, merged.runs, merged.known_runs)


def _rounds_so_far(target: Ledger, copy: Ledger) -> dict[str, int]:
    """The last round on each bench, so that rounds of another study come after it.

    Copies of one study have common rounds, which stay as they are.
    """
    here, there = (set(each.rows("SELECT uid FROM visit")) for each in (target, copy))
    if here & there:
        return {}
    rows = target.rows("SELECT bench, max(round) FROM visit GROUP BY bench")
    return {bench: last or 0 for bench, last in rows}


def _rename(copy: WritableLedger, source: SourceMap, rounds: Mapping[str, int]) -> None:
    """Give everything its name in the combined study, and rounds their own numbers."""
    in_rounds = source.study.head.schedule == "rounds"
    visit = schema.visit
    with copy.transaction() as connection:
        # By way of names that are not in use, so that two can change places.
        changed = list(renames(source))
        for prefix, strip in (("\x00", False), ("", True)):
            for kind, old, new in changed:
                was, becomes = (f"\x00{new}", new) if strip else (old, f"{prefix}{new}")
                for name, column in tables.columns_named(kind):
                    change = f"UPDATE {name} SET {column} = ? WHERE {column} = ?"
                    connection.exec_driver_sql(change, (becomes, was))
        for row in connection.execute(
            sa.select(visit.c.id, visit.c.levels, visit.c.subjects)
        ).all():
            subjects = {source.workloads.get(w, w): s for w, s in row.subjects.items()}
            values = {"levels": {**row.levels, **source.levels}, "subjects": subjects}
            connection.execute(sa.update(visit).where(visit.c.id == row.id).values(**values))
        if not in_rounds:
            connection.execute(sa.update(visit).values(round=None))
        for bench, last in rounds.items():
            moved = sa.update(visit).where(visit.c.bench == bench, visit.c.round.is_not(None))
            connection.execute(moved.values(round=visit.c.round + last))
