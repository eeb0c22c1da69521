"""Proof that a configuration is active: the checks of its levels."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from ferocal.bench._linux import ProcessSight
from ferocal.bench.commands import expand, prepare
from ferocal.bench.execution import Executor
from ferocal.study.configurations import Configuration
from ferocal.study.model import CommandCheck, RunningCheck

# Longer outputs of checks are cut in messages and in the ledger.
_SEEN_LENGTH = 400
_UNOBSERVED = "nothing: processes cannot be observed on this system"
_TOO_SHORT = "nothing: the run ended before it could be observed"


@dataclass(frozen=True)
class CheckResult:
    """What one check expected and what it saw."""

    level: str
    expected: str
    seen: str
    holds: bool

    def __str__(self) -> str:
        verb = "holds" if self.holds else "is not active"
        return f"{self.level} {verb}: expected {self.expected}, seen {self.seen}"


def verify(
    executor: Executor,
    configuration: Configuration,
    directory: Path,
    context: Mapping[str, str],
    *,
    when: str = "before",
    chosen: Callable[[str], bool] = lambda level: True,
) -> list[CheckResult]:
    """Run the checks of a configuration in its environment, in factor order.

    Parameters
    ----------
    context
        Further environment variables, those that say which visit it is.
    when
        "before" or "after" the runs of a visit.
    chosen
        Whether the checks of a level ("driver=r64") are to be run.
    """
    environment = {**context, **configuration.environment}
    return [
        _run_check(executor, configuration, directory, environment, (level, check))
        for level, check in configuration.verify
        if isinstance(check, CommandCheck) and check.when in (when, "both") and chosen(level)
    ]


def _run_check(
    executor: Executor,
    configuration: Configuration,
    directory: Path,
    environment: Mapping[str, str],
    item: tuple[str, CommandCheck],
) -> CheckResult:
    level, check = item
    prefix = configuration.prefix if check.with_prefix else ()
    completed = executor.run(prepare(check, directory, environment, prefix))
    seen = completed.text.strip()
    failure = completed.failure
    shown = f'"{completed.shown[:_SEEN_LENGTH]}"'
    if failure is not None:
        complaint = completed.complaint
        shown = f"{shown}, and the check {failure}" + (f" ({complaint})" if complaint else "")
    holds = failure is None and check.holds(seen)
    return CheckResult(level, check.expected, shown, holds)


def needs_observation(configuration: Configuration) -> bool:
    """Whether a configuration has checks on running workloads."""
    return any(isinstance(check, RunningCheck) for _, check in configuration.verify)


def verify_running(
    configuration: Configuration, directory: Path, processes: Sequence[ProcessSight] | None
) -> list[CheckResult]:
    """Hold the checks on the running workload against what was seen of its processes."""
    return [
        _judge(level, check, directory, processes)
        for level, check in configuration.verify
        if isinstance(check, RunningCheck)
    ]


def _judge(
    level: str, check: RunningCheck, directory: Path, processes: Sequence[ProcessSight] | None
) -> CheckResult:
    wanted = check.model_copy(
        update={
            key: expand(value, directory.resolve())
            for key in ("equals", "contains", "matches")
            if (value := getattr(check, key)) is not None
        }
    )
    expected = f"{check.running} of the running workload {wanted.expected}"
    if not processes:
        return CheckResult(level, expected, _UNOBSERVED if processes is None else _TOO_SHORT, False)
    values = list(dict.fromkeys(_values(check.running, processes)))
    holds = any(wanted.holds(value) for value in values)
    shown = f'"{", ".join(values)[:_SEEN_LENGTH]}"'
    return CheckResult(level, expected, shown, holds)


def _values(aspect: str, processes: Iterable[ProcessSight]) -> list[str]:
    if aspect == "libraries":
        return [library for process in processes for library in process.libraries]
    return [getattr(process, aspect) for process in processes]
