"""Proof that a configuration is active: the checks of its levels."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from ferocal.bench.commands import prepare
from ferocal.bench.execution import Executor
from ferocal.study.configurations import Configuration

# Longer outputs of checks are cut in messages and in the ledger.
_SEEN_LENGTH = 400


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
) -> list[CheckResult]:
    """Run every check of a configuration in its environment, in factor order.

    ``context`` holds further environment variables, those that tell which visit it is.
    """
    results = []
    for level, check in configuration.verify:
        prefix = configuration.prefix if check.with_prefix else ()
        environment = {**context, **configuration.environment}
        completed = executor.run(prepare(check, directory, environment, prefix))
        seen = completed.text.strip()
        failure = completed.failure
        shown = f'"{seen[:_SEEN_LENGTH]}"'
        if failure is not None:
            complaint = completed.stderr.decode("utf-8", "replace").strip()[-_SEEN_LENGTH:]
            shown = f"{shown}, and the check {failure}" + (f" ({complaint})" if complaint else "")
        holds = failure is None and check.holds(seen)
        results.append(CheckResult(level, check.expected, shown, holds))
    return results
