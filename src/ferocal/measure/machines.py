"""The machine of the bench of a study, near or far."""

from __future__ import annotations

import hashlib
import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from ferocal.bench.execution import local_executor
from ferocal.bench.machine import Machine, ThisMachine
from ferocal.errors import UsageError
from ferocal.measure.lock import machine_identity
from ferocal.study.load import Study
from ferocal.terms.files import scratch_directory


@contextmanager
def machine_of(study: Study, tell: Callable[[str], None]) -> Iterator[Machine]:
    """The machine of the bench, near or far."""
    table = study.bench_table
    if table.host is None:
        with local_executor(study.directory, study.mask, table.through) as executor:
            yield ThisMachine(executor, seen=study.on_this_machine)
        return
    if sys.platform == "win32":
        raise UsageError(
            f"bench.{study.bench}.host: from Windows no bench is reached over a connection yet; "
            "measure there, and merge its ledger"
        )
    from ferocal.bench.connection import FarBench
    from ferocal.bench.remote import far_machine

    known = {name: os.environ[name] for name in study.head.secrets if name in os.environ}
    token = f"{study.directory.resolve()} {machine_identity()} {study.bench}"
    bench = FarBench(
        table.host, table.directory, table.reconnect,
        hashlib.sha256(token.encode()).hexdigest(), known, table.reboot, table.reboots_within,
        table.through,
    )  # fmt: skip
    with (
        scratch_directory() as scratch,
        far_machine(bench, scratch, study.mask, tell) as machine,
    ):
        yield machine
