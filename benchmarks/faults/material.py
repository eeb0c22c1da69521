"""Good files of every kind: a small study, and readings in every format for it."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from pathlib import Path

PROGRAM = str(Path(sys.executable).with_name("ferocal"))
LEDGER = "ledger.sqlite"
STUDY = """
[study]
question = "Is the dome faster with it?"
margin = "5 %"
rounds = 3
runs = 1
[bench.dome-node]
[factor.mode.level.off]
environment = { GAIN = "100" }
[factor.mode.level.on]
environment = { GAIN = "120" }
verify = [{ command = "true", equals = "" }]
[workload.flight]
shell = true
timeout = "5 s"
command = "echo score $GAIN.$((FEROCAL_VISIT % 3))"
[workload.flight.metric.score]
unit = "points"
better = "higher"
source = { pattern = "score ([0-9.]+)" }
[workload.show]
shell = true
command = "for i in 1 2 3 4 5 6; do echo $i; done"
[workload.show.metric.frames]
kind = "frames"
unit = "ms"
source = { output = "lines" }
[claim.faster]
says = "It is faster."
metric = "flight score"
configuration = "on"
at-least = "2 %"
"""
ROWS = [
    {"configuration": name, "workload": "flight", "metric": "score", "round": number,
     "unit": "points", "value": value + number / 4, "started_at": f"2026-05-0{number}T14:30"}
    for number in (4, 5, 6, 7) for name, value in (("off", 100), ("on", 120))
]  # fmt: skip
FRAMES = ["time,frame"] + [f"{i / 60:.4f},{16 + i % 3}" for i in range(200)]


def make_folder(folder: Path) -> None:
    """A measured study, with a good file of every kind beside it."""
    import pandas as pd

    (folder / "study.toml").write_text(STUDY)
    for words in (["measure"], ["export", "all.csv", "--traces", "traces"]):
        subprocess.run([PROGRAM, *words], cwd=folder, check=True, capture_output=True)
    (folder / "copy").mkdir()
    for name in ("study.toml", LEDGER):
        shutil.copy(folder / name, folder / "copy" / name)
    frame = pd.DataFrame(ROWS)
    frame.to_csv(folder / "rows.csv", index=False)
    (folder / "rows.json").write_text(json.dumps({"readings": ROWS}))
    (folder / "rows.jsonl").write_text("\n".join(map(json.dumps, ROWS)))
    frame.to_parquet(folder / "rows.parquet")
    frame.to_excel(folder / "rows.xlsx", index=False)
    with pd.ExcelWriter(folder / "rows.ods", engine="odf") as writer:
        frame.to_excel(writer, index=False)
    (folder / "frames.csv").write_text("\n".join(FRAMES))
    (folder / "refs.csv").write_text(
        "device,workload,metric,value,unit,source,date\nHalden 5,flight,score,118,points,a poster,"
        "2026-01-03\nLarkspur 2,flight,score,90..95,points,a leaflet,2025-11\n"
    )
    shutil.copy(sorted((folder / "traces").glob("*.parquet"))[0], folder / "trace.parquet")
    frame.drop(columns="round").to_csv(folder / "long.csv", index=False)
    (folder / "call.json").write_text("[]")
    _make_journal(folder)


def _make_journal(folder: Path) -> None:
    """A run of which the ledger does not have the end, and the journal that has it."""
    import sqlite3

    from ferocal.ledger import tables
    from ferocal.ledger.records import Ending, Outcome, Value
    from ferocal.ledger.writing.opening import open_ledger
    from ferocal.ledger.writing.runs import Recorder
    from ferocal.measure.journal import keep_ending

    with sqlite3.connect(folder / LEDGER) as connection:
        visit, uid = connection.execute("SELECT visit_id, uid FROM run LIMIT 1").fetchone()
    with open_ledger(folder) as ledger:
        ledger.insert(
            tables.RUN, uid="0" * 31 + "1", visit_id=visit, workload="flight", number=9,
            warmup=False, position=9, started_at="2026-05-01T14:30:00.000+00:00",
            outcome=Outcome.RUNNING,
        )  # fmt: skip
        recorder = Recorder(ledger)
        recorder.begun = "0" * 31 + "1"
        values = [Value("flight", "score", "points", 101.0)]
        keep_ending(recorder, Ending(Outcome.OK, None, 0.5, values))
    (folder / "run").write_text(uid[:12])


def make_good(folder: Path) -> None:
    """The same with a bundle."""
    make_folder(folder)
    words = [PROGRAM, "bundle", "-o", "bundle.zip"]
    subprocess.run(words, cwd=folder, check=True, capture_output=True)
