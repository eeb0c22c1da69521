"""Studies of the demo as they were measured once, and all numbers that came of them.

Called as a program it writes these anew; whoever does so says in the commit why they changed.
"""

from __future__ import annotations

import gzip
import json
import tempfile
from pathlib import Path
from typing import Any

from conftest import Ferocal

KEPT = Path(__file__).parent / "kept"
ANSWERS = "answers.json"
# What hangs on the directory and the hour.
_OF_THE_HOUR = ("study", "ledger", "path", "first_seen")
COMMANDS = {
    "firmware": (
        "compare --detail", "compare --between workload", "table", "factors", "rank", "claims",
        "plan --detect 2%",
    ),
    "hosts": (
        "compare --detail", "compare --against tarn-4", "compare --between workload", "table",
        "factors", "rank", "rank --per price", "plan",
    ),
    "kiosk": (
        "series firmware --bench foyer", "rank --across benches",
    ),
}  # fmt: skip


def restore(name: str, directory: Path) -> Ferocal:
    """A kept study in a directory, its readings imported again."""
    kept, ferocal = KEPT / name, Ferocal(directory)
    ferocal.write((kept / "study.toml").read_text(encoding="utf-8"))
    readings = directory / "readings.csv"
    readings.write_bytes(gzip.decompress((kept / "readings.csv.gz").read_bytes()))
    ferocal.quick("load", str(readings))
    return ferocal


def answers(name: str, ferocal: Ferocal) -> dict[str, Any]:
    """What the commands say of it, but for what hangs on the directory and the hour."""
    return {command: _lasting(ferocal.json(*command.split())) for command in COMMANDS[name]}


def _lasting(value: Any) -> Any:
    if isinstance(value, dict):
        return {k: _lasting(v) for k, v in value.items() if k not in _OF_THE_HOUR}
    if isinstance(value, list):
        return [_lasting(part) for part in value]
    return value


def main() -> None:
    """Write the answers anew."""
    for name in COMMANDS:
        with tempfile.TemporaryDirectory() as directory:
            found = answers(name, restore(name, Path(directory)))
        text = ",\n".join(f"{json.dumps(c)}: {json.dumps(a)}" for c, a in found.items())
        (KEPT / name / ANSWERS).write_text(f"{{\n{text}\n}}\n", encoding="utf-8")


if __name__ == "__main__":
    main()
