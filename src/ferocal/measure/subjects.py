"""The workloads of a visit as they are: arguments, version, digests of their files."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from ferocal.bench.commands import expand, prepare
from ferocal.bench.execution import Executor
from ferocal.bench.limits import OddFileError, check_file
from ferocal.study.configurations import Configuration
from ferocal.study.load import Study
from ferocal.study.model import Workload


def describe_subjects(
    study: Study, executor: Executor, configuration: Configuration, context: Mapping[str, str]
) -> dict[str, Any]:
    """For each workload its arguments, what it says of its version, and its files' digests."""
    return {
        name: _describe(study, executor, configuration, context, workload)
        for name, workload in study.workloads.items()
    }


def _describe(
    study: Study,
    executor: Executor,
    configuration: Configuration,
    context: Mapping[str, str],
    workload: Workload,
) -> dict[str, Any]:
    version = None
    if workload.version is not None:
        environment = {**context, **workload.environment, **configuration.environment}
        completed = executor.run(
            prepare(workload.version, executor.place, environment, configuration.prefix)
        )
        version = completed.shown[:400]
        if completed.failure is not None:
            version = f"not read: the command {completed.failure}"
    place = executor.place
    files = {name: _digest(Path(place.directory, expand(name, place))) for name in workload.files}
    return {
        "arguments": list(workload.words),
        "version": version,
        "files": files,
        "statistics": {name: metric.statistic for name, metric in workload.read.items()},
    }


def _digest(path: Path) -> str:
    try:
        check_file(path)
        with path.open("rb") as file:
            return hashlib.file_digest(file, "sha256").hexdigest()
    except OSError as error:
        return f"not read: {error.strerror}"
    except OddFileError as error:
        return f"not read: {error}"
