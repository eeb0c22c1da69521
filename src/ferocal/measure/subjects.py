"""The workloads of a visit as they are: arguments, version, digests of their files."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ferocal.bench.commands import expand, prepare
from ferocal.bench.machine import Machine
from ferocal.study.configurations import Configuration
from ferocal.study.load import Study
from ferocal.study.model import Workload


def describe_subjects(
    study: Study, machine: Machine, configuration: Configuration, context: Mapping[str, str]
) -> dict[str, Any]:
    """For each workload its arguments, what it says of its version, and its files' digests."""
    return {
        name: _describe(machine, configuration, context, workload)
        for name, workload in study.workloads.items()
    }


def _describe(
    machine: Machine,
    configuration: Configuration,
    context: Mapping[str, str],
    workload: Workload,
) -> dict[str, Any]:
    version = None
    if workload.version is not None:
        environment = {**context, **workload.environment, **configuration.environment}
        completed = machine.run(
            prepare(workload.version, machine.place, environment, configuration.prefix)
        )
        version = completed.shown[:400]
        if completed.failure is not None:
            version = f"not read: the command {completed.failure}"
    files = {name: machine.digest(expand(name, machine.place)) for name in workload.files}
    return {
        "arguments": list(workload.words),
        "version": version,
        "files": files,
        "statistics": {name: metric.statistic for name, metric in workload.read.items()},
    }
