"""Proof that a configuration is active: the checks of its levels."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from ferocal.bench._linux import ProcessSight
from ferocal.bench.commands import expand, prepare
from ferocal.bench.execution import Completed, Executor, Place
from ferocal.bench.output import OutputError, find_in_json, parse_output
from ferocal.study.checks import CommandCheck, ReportedCheck, RunningCheck
from ferocal.study.configurations import Configuration
from ferocal.study.masking import Mask
from ferocal.terms.frozen import dataclass
from ferocal.terms.wording import listed

# Longer outputs of checks are cut in messages and in the ledger.
_SEEN_LENGTH = 400
_UNOBSERVED = "nothing: processes cannot be observed on this system"


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
        _run_check(executor, configuration, environment, (level, check))
        for level, check in configuration.verify
        if isinstance(check, CommandCheck) and check.when in (when, "both") and chosen(level)
    ]


def _run_check(
    executor: Executor,
    configuration: Configuration,
    environment: Mapping[str, str],
    item: tuple[str, CommandCheck],
) -> CheckResult:
    level, check = item
    prefix = configuration.prefix if check.with_prefix else ()
    completed = executor.run(prepare(check, executor.place, environment, prefix))
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
    configuration: Configuration, place: Place, processes: Sequence[ProcessSight] | None
) -> list[CheckResult]:
    """Hold the checks on the running workload against what was seen of its processes."""
    return [
        _judge(level, check, place, processes)
        for level, check in configuration.verify
        if isinstance(check, RunningCheck)
    ]


def unobserved(
    configuration: Configuration, place: Place, workloads: Sequence[str]
) -> list[CheckResult]:
    """The checks on running workloads where all runs were over before they could be observed."""
    seen = f"nothing: all runs of {listed(workloads)} ended before they could be observed"
    return [
        replace(check, seen=f"{seen}; lengthen them", holds=False)
        for check in verify_running(configuration, place, ())
    ]


def _judge(
    level: str, check: RunningCheck, place: Place, processes: Sequence[ProcessSight] | None
) -> CheckResult:
    wanted = check.filled(lambda text: expand(text, place))
    expected = wanted.described
    if processes is None:
        return CheckResult(level, expected, _UNOBSERVED, False)
    values = list(dict.fromkeys(_values(check.running, processes)))
    if check.lacks is None:
        holds = any(map(wanted.holds, values))
    else:
        # What was seen so early that only the loader was there shows nothing of what is not.
        holds = all(map(wanted.holds, values)) and not all(map(_is_loader, values))
    shown = f'"{", ".join(_telling(wanted, values))[:_SEEN_LENGTH]}"'
    return CheckResult(level, expected, shown, holds)


def _values(aspect: str, processes: Iterable[ProcessSight]) -> list[str]:
    found = [getattr(process, aspect) for process in processes]
    if aspect in ("libraries", "files"):
        return [value for values in found for value in values]
    return found


def _is_loader(path: str) -> bool:
    return Path(path).name.startswith("ld-")


def _telling(check: RunningCheck, values: Sequence[str]) -> list[str]:
    """Of all that was seen, first what decided, since a message has no room for all."""
    decides = [value for value in values if check.holds(value) is (check.lacks is None)]
    return [*decides, *(value for value in values if value not in decides)]


def verify_reported(configuration: Configuration, completed: Completed) -> list[CheckResult]:
    """Hold the checks on what a run reports against its output."""
    asked = [(level, c) for level, c in configuration.verify if isinstance(c, ReportedCheck)]
    if not asked:
        return []
    try:
        document = parse_output(completed)
    except OutputError as error:
        return [CheckResult(level, c.described, f"nothing: {error}", False) for level, c in asked]
    return [_judge_report(level, check, document, completed.mask) for level, check in asked]


def _judge_report(level: str, check: ReportedCheck, document: Any, mask: Mask) -> CheckResult:
    try:
        found = find_in_json(document, check.reported)
    except OutputError as error:
        return CheckResult(level, check.described, f"nothing: {error}", False)
    seen = found if isinstance(found, str) else json.dumps(found)
    shown = mask.text(seen)[:_SEEN_LENGTH]
    return CheckResult(level, check.described, f'"{shown}"', check.holds(seen.strip()))
