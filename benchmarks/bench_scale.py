"""A large ledger: `ferocal compare --json` against the plain driver and NumPy.

100,800 runs with three readings each, of 200 workloads under 12 configurations in 14
rounds. The reference reads all readings with one query of the database's own driver, with
the columns that a comparison needs, and groups them by series, configuration and round in
NumPy; both in this process, so without the time to start an interpreter and to import
anything, which is part of ours.
"""

from __future__ import annotations

import json
import os
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from sizes import scaled

PROGRAM = str(Path(sys.executable).with_name("ferocal"))
CONFIGURATIONS, WORKLOADS, METRICS, ROUNDS, RUNS = 12, scaled(200, 4), 3, 14, 3
TURNS = scaled(5, 1)
QUERY = """
SELECT run.workload, metric.name AS metric, metric.unit, visit.configuration, visit.round,
    visit.id AS visit, run.id AS run, run.position, reading.value
FROM reading JOIN run ON run.id = reading.run_id JOIN visit ON visit.id = run.visit_id
JOIN metric ON metric.id = reading.metric_id
WHERE run.outcome = 'ok' AND NOT run.warmup AND visit.state = 'active'
"""
CONDITIONS = {
    "before": {"load": 0.4, "free_memory_mib": 9000.0, "clock_mhz": 3000.0},
    "after": {"load": 0.5, "free_memory_mib": 9000.0, "clock_mhz": 3000.0},
    "busy_share_of_others": 0.01,
    "busiest_others": [],
}


def write_study(folder: Path) -> None:
    """Write a study file with all workloads and configurations."""
    text = '[study]\nquestion = "Which of many?"\nmargin = "2 %"\nrounds = 14\nruns = 3\n'
    for c in range(CONFIGURATIONS):
        text += f"[factor.driver.level.r{c:02}]\n"
    for w in range(WORKLOADS):
        text += f'[workload.w{w:03}]\ncommand = "true"\n'
        for m in range(METRICS):
            text += f'[workload.w{w:03}.metric.m{m}]\nunit = "s"\nbetter = "lower"\n'
            text += f'source = {{ json = "/m{m}" }}\n'
    (folder / "study.toml").write_text(text)


def fill_ledger(folder: Path) -> None:
    """Fill a ledger with simulated readings, a 3 % change in one configuration."""
    from ferocal.ledger.integrity.seals import seal_all
    from ferocal.ledger.writing.opening import open_ledger

    with open_ledger(folder, create=True):
        pass
    rng = np.random.default_rng(1)
    connection = sqlite3.connect(folder / "ledger.sqlite")
    connection.execute("INSERT INTO facts VALUES (1, 'x', '[]')")
    connection.execute(
        "INSERT INTO session (id, uid, started_at, version, overhead, rounds, decide, bench) "
        "VALUES (1, printf('%032x', 1), '2026-01-01T00:00:00.000+00:00', '0', '{}', 14, 0, 'bench')"
    )
    names = [(w, m) for w in range(WORKLOADS) for m in range(METRICS)]
    connection.executemany(
        "INSERT INTO metric VALUES (?, ?, ?, 's')",
        [(n + 1, f"w{w:03}", f"m{m}") for n, (w, m) in enumerate(names)],
    )
    run = visit = 0
    conditions = json.dumps(CONDITIONS)
    for number in range(1, ROUNDS + 1):
        for c in rng.permutation(CONFIGURATIONS).tolist():
            visit += 1
            level = 0.03 * (c == 3) + rng.normal(0, 0.01, (WORKLOADS, METRICS))
            time_text = f"2026-01-{number:02}T{c:02}:00:00+00:00"
            connection.execute(
                "INSERT INTO visit VALUES (?,printf('%032x', ?),1,'bench',?,'{}',?,?,?,?,1,"
                "'active','[]','{}','[]',1,1,NULL,NULL)",
                (visit, visit, f"r{c:02}", number, visit, time_text, time_text),
            )
            values = np.exp(level[:, None, :] + rng.normal(0, 0.01, (WORKLOADS, RUNS, METRICS)))
            rows, readings = [], []
            for position in range(WORKLOADS * RUNS):
                w, k = divmod(position, RUNS)
                run += 1
                rows.append((run, run, visit, f"w{w:03}", k + 1, position, time_text, conditions))
                readings += [(run, 3 * w + m + 1, values[w, k, m]) for m in range(METRICS)]
            connection.executemany(
                "INSERT INTO run VALUES (?,printf('%032x', ?),?,?,?,0,?,?,1.0,'ok',NULL,0,?)", rows
            )
            connection.executemany(
                "INSERT INTO reading (run_id, metric_id, value) VALUES (?,?,?)", readings
            )
    seal_all(connection)
    connection.commit()
    connection.close()


def reference(folder: Path) -> tuple[float, float]:
    """Seconds to read everything with one query, and to group it."""
    start = time.perf_counter()
    connection = sqlite3.connect(folder / "ledger.sqlite")
    columns = list(zip(*connection.execute(QUERY), strict=True))
    connection.close()
    read = time.perf_counter()
    values = np.array(columns[8])
    # Workload, metric, configuration; the round is the last part of the key.
    key = np.zeros(len(values), int)
    for column in (columns[0], columns[1], columns[3], columns[4]):
        names, codes = np.unique(np.array(column), return_inverse=True)
        key = key * len(names) + codes
    order = np.lexsort((values, key))
    starts = np.flatnonzero(np.diff(key[order], prepend=-1))
    sizes = np.diff(starts, append=len(values))
    ordered = values[order]
    medians = (ordered[starts + (sizes - 1) // 2] + ordered[starts + sizes // 2]) / 2
    series = np.flatnonzero(np.diff(key[order][starts] // len(names), prepend=-1))
    counts = np.diff(series, append=len(medians))
    means = np.add.reduceat(medians, series) / counts
    np.sqrt(np.add.reduceat((medians - np.repeat(means, counts)) ** 2, series) / (counts - 1))
    return read - start, time.perf_counter() - read


def check(folder: Path) -> tuple[float, float, float]:
    """Seconds to see that a known ledger is as it was, to read readings, and all of it."""
    from ferocal.answers.evidence import gather
    from ferocal.ledger.opening import read_ledger
    from ferocal.ledger.reading.columns import read_columns
    from ferocal.ledger.refusing import check as check_ledger
    from ferocal.study.load import load_study

    study = load_study(folder)
    with read_ledger(folder) as ledger, ledger.driver() as driver:
        times = [time.perf_counter()]
        for act in (
            lambda: check_ledger(driver, ledger.path),
            lambda: read_columns(ledger),
            lambda: gather(study, ledger),
        ):
            act()
            times.append(time.perf_counter())
    checked, columns, evidence = np.diff(times).tolist()
    return checked, columns, evidence


def ours(folder: Path) -> tuple[float, float]:
    """Seconds and peak memory (MiB) of a whole process of ours."""
    # Byte code is kept, as it is where the program is installed.
    environment = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    command = [PROGRAM, "compare", "--json"]
    start = time.perf_counter()
    with (folder / "out.json").open("w") as output:
        process = subprocess.Popen(command, cwd=folder, env=environment, stdout=output)
        _, status, usage = os.wait4(process.pid, 0)
    assert status == 0
    return time.perf_counter() - start, usage.ru_maxrss / 1024


def main() -> None:
    """Print the figures against their targets."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_study(folder)
        fill_ledger(folder)
        first, _ = ours(folder)  # it also checks the whole ledger
        turns = [(*ours(folder), *reference(folder), *check(folder)) for _ in range(TURNS + 1)][1:]
        figures = (statistics.median(c) for c in zip(*turns, strict=True))
        seconds, memory, read, group, checked, columns, evidence = figures
        document = json.loads((folder / "out.json").read_text())
        runs = CONFIGURATIONS * WORKLOADS * ROUNDS * RUNS
        print(f"{len(document['effects']):,} effects of {runs:,} runs")
        print(
            f"ferocal compare --json: {seconds:.2f} s in all; reading with one query {read:.2f} s, "
            f"grouping in memory {group:.2f} s: "
            f"ratio {seconds / (read + group):.2f} (target 1.3)"
        )
        print(
            f"that nothing has changed is seen in {checked:.3f} s; what a comparison needs is read "
            f"in {evidence:.2f} s, its readings alone in {columns:.2f} s: "
            f"{checked / evidence:.0%} and {checked / columns:.0%} (target 20 %)"
        )
        print(
            f"the first time, with the check of every row and seal: {first:.2f} s, so the check "
            f"took about {first - seconds:.2f} s"
        )
        print(f"peak memory {memory:.0f} MiB (target 250)")


if __name__ == "__main__":
    main()
