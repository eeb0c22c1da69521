"""How tables of every kind are understood, as they are, changed a little and with every option.

Called as a program it writes that anew; whoever does so says in the commit why it has changed.
"""

from __future__ import annotations

import gzip
import tempfile
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

from conftest import Ferocal
from kept_studies import KEPT, written
from test_traces import TRACED, captures_of
from zoo import ZOO

PREVIEWS = KEPT / "previews.txt.gz"
_Lines = list[str]
_OPTIONS = (
    "", "--decimal comma", "--decimal point", "--dates day-first", "--dates month-first",
    "--across configuration", "--across metric", "--across workload", "--across run",
    "--header 2", "--fill-down", "--order time",
)  # fmt: skip
_CHANGES: dict[str, Callable[[_Lines], _Lines]] = {
    "without its last line": lambda lines: lines[:-1],
    "its second line twice": lambda lines: [*lines[:2], *lines[1:]],
    "its third line without its first cell": lambda lines: [
        line[line.find(",") :] if n == 2 and "," in line else line for n, line in enumerate(lines)
    ],
    "with semicolons": lambda lines: [line.replace(",", ";") for line in lines],
    "a title above": lambda lines: ["Dome lab", "", *lines],
    "an empty line in it": lambda lines: [*lines[:2], "", *lines[2:]],
    "a sum below": lambda lines: [*lines, "Total" + ",9999" * lines[0].count(",")],
    "a cell too many": lambda lines: [*lines[:-1], f"{lines[-1]},7"],
    "without numbers in its last line": lambda lines: [
        *lines[:-1], "".join("x" if sign.isdigit() else sign for sign in lines[-1])
    ],
    "its columns turned round": lambda lines: [
        ",".join(reversed(line.split(","))) for line in lines
    ],
}  # fmt: skip


_STUDY = """
[study]
question = "Is the dome faster with it?"
margin = "5 %"
[bench.dome-node]
[bench.foyer]
[factor.mode.level.off]
[factor.mode.level.on]
[workload.flight]
command = "true"
[workload.flight.metric.score]
unit = "points"
better = "higher"
source = { pattern = "score ([0-9.]+)" }
plausible = [50, 200]
[workload.flight.metric.load-time]
unit = "s"
better = "lower"
"""
_ROW = {
    "bench": "foyer", "configuration": "on", "workload": "flight", "metric": "score",
    "value": "101.5", "unit": "points", "round": "2", "visit": "v2", "run": "r2",
    "started_at": "2026-05-02T14:30", "low": "101", "high": "102", "samples": "9", "sd": "0.5",
    "statistic": "median", "bound": "", "outcome": "ok", "note": "",
}  # fmt: skip
_ODD = (
    "", "x", "off", "-", "-3", "0", "1e300", "nan", "inf", "1,234", "1.234,5", "3:25", "12 %", "<5",
    ">200", "80..120", "100 ±2", "n/a", "failed", "min", "ms", "5 ms", "2026-05-02", "3/5/2026",
    "2026-13-02", "1999-01-01T00:00", "score", "load-time", "gallery", "1.5", "99999999999", "yes",
)  # fmt: skip


def refusals(name: str, ferocal: Ferocal) -> Iterator[str]:
    """What is said of files in which the cell of one column is odd."""
    ferocal.write(_STUDY)
    file = ferocal.directory / "t.csv"
    right = {**_ROW, "configuration": "off", "value": "103", "low": "102", "high": "104"}
    for odd in _ODD:
        rows = [list(_ROW), list(right.values()), list({**_ROW, name: odd}.values())]
        cells = [[f'"{cell}"' for cell in row] for row in rows]
        file.write_text("".join(f"{','.join(row)}\n" for row in cells), encoding="utf-8")
        yield from _said(ferocal, f'"{odd}"', "load", file.name, "--preview")


def previews(name: str, ferocal: Ferocal) -> Iterator[str]:
    """What is said of a table, each behind what was asked."""
    table = ZOO[name]
    file = ferocal.directory / (f"t{Path(name).suffix}" if name.startswith("t.") else name)
    for option in _OPTIONS:
        content = table.content
        file.write_bytes(content if isinstance(content, bytes) else content.encode())
        yield from _preview(ferocal, option, file, *option.split())
    if isinstance(table.content, str):
        for what, change in _CHANGES.items():
            lines = change(table.content.splitlines())
            file.write_text("".join(f"{line}\n" for line in lines), encoding="utf-8")
            yield from _preview(ferocal, what, file, *table.options)


_TRACE_OPTIONS = (
    "", "--unit ms", "--unit s", "--unit us", "--unit fps", "--stamps", "--skip 3",
    "--decimal comma", "--decimal point", "--column ms", "--column fps", "--column adapter",
    "--interval 16ms", "--unit fps --stamps", "--metric frame-time", "--round 2 --visit v1",
)  # fmt: skip


def captures(kind: str, name: str, ferocal: Ferocal) -> Iterator[str]:
    """What is said of the capture of a trace."""
    ferocal.write(TRACED.format(command="true", unit="ms", source='{ output = "lines" }'))
    (ferocal.directory / name).write_text(captures_of(kind)[name], encoding="utf-8")
    place = ("--configuration", "on", "--workload", "flight", "--preview")
    for option in _TRACE_OPTIONS:
        yield from _said(ferocal, option, "load-trace", name, *place, *option.split())


# What is kept: for a table, for a column with odd cells, for a capture.
ASKED: dict[str, Callable[[Ferocal], Iterator[str]]] = {
    **{f"table {name}": partial(previews, name) for name in ZOO},
    **{f"column {name}": partial(refusals, name) for name in _ROW},
    **{
        f"capture {name}": partial(captures, kind, name)
        for kind in ("certain", "doubtful")
        for name in captures_of(kind)
    },
}


def _preview(ferocal: Ferocal, what: str, file: Path, *options: str) -> Iterator[str]:
    return _said(ferocal, what, "new", "s", "--from", file.name, "--preview", *options)


def _said(ferocal: Ferocal, what: str, *words: str) -> Iterator[str]:
    status, out, error = ferocal.attempt(*words)
    yield f"— {what or 'as it is'} → {status}"
    yield from (line.rstrip() for line in f"{out}{error}".splitlines() if line.strip())


def main() -> None:
    """Write the previews anew."""
    with tempfile.TemporaryDirectory() as directory:
        ferocal = Ferocal(Path(directory))
        text = written({asked: find(ferocal) for asked, find in ASKED.items()})
    PREVIEWS.write_bytes(gzip.compress(text.encode(), mtime=0))


if __name__ == "__main__":
    main()
