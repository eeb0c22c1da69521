"""Studies of the demo as they were measured once, and what the commands say of them.

Called as a program it writes that anew; whoever does so says in the commit why it has changed.
"""

from __future__ import annotations

import gzip
import json
import re
import tempfile
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from conftest import Ferocal
from ferocal import __version__
from ferocal.ledger.opening import LEDGER_FILE

KEPT = Path(__file__).parent / "kept"
ANSWERS, TEXTS = "answers.json", "texts.txt"
# What hangs on the directory and the hour.
_OF_THE_HOUR = ("study", "ledger", "path", "first_seen")
NUMBERS = {
    "dome": ("compare --detail", "frames", "factors", "table", "rank"),
    "firmware": (
        "compare --detail", "compare --between workload", "table", "factors", "rank", "claims",
        "plan --detect 2%",
    ),
    "hosts": (
        "compare --detail", "compare --against tarn-4", "compare --between workload", "table",
        "factors", "rank", "rank --per price", "plan",
    ),
    "kiosk": ("series firmware --bench foyer", "rank --across benches"),
    "gallery": (
        "compare --bench south", "series firmware --at panel=bright --bench north", "claims",
        "rank --for quiet", "rank --per price --bench north", "compare --between panel", "factors",
    ),
    "atelier": (
        "compare --bench crypt", "claims", "table --bench crypt", "rank --for staff --bench nave",
        "rank --per price --bench apse", "factors --bench apse", "compare --across benches",
        "compare --between size", "compare --between bench", "plan --bench apse",
        "compare --against d2+mono+wide --bench nave --group quick",
    ),
}  # fmt: skip
_OF_ALL = (
    "table", "runs", "inspect", "plan", "history", "factors --detail", "rank", "rank --detail",
    "note", "runs --outcome failed", "report --format markdown",
)  # fmt: skip
_OF_SMALL = (
    *_OF_ALL, "compare", "compare --detail", "compare --format markdown", "table --detail",
    "compare --as-factor --sort size",
)  # fmt: skip
# What is told of the machine that it is told on.
_OF_HERE = re.compile(r"^this machine: .*?\n\n", re.DOTALL | re.MULTILINE)
# Where reports are written.
_REPORTS = ("report.md", "report.txt")
WORDS = {
    "dome": (
        *_OF_SMALL, "frames", "frames --against r64+vulkan --format markdown", "runs --round 2",
        "plan --detect 1%", "compare --between api", "factors --against r61+opengl --to r64+vulkan",
        "factors --to r64+opengl",
        "report --format text --without readings --title Domes", "plan --rounds 7",
    ),
    "firmware": (
        *_OF_SMALL, "claims", "claims --format markdown", "runs --excluded", "reference",
        "compare --only worse", "compare --between workload", "compare --format junit",
    ),
    "hosts": (
        *_OF_SMALL, "rank --per price", "rank --per cores", "compare --between workload",
        "compare --against tarn-4", "compare --configuration tarn-8", "compare --format csv",
    ),
    "kiosk": (
        *_OF_ALL, "series firmware", "series firmware --detail --bench foyer",
        "compare --bench gallery --workload kiosk-page",
        "series firmware --next", "series firmware --gate worse --bench foyer", "soak",
        "soak --detail --bench gallery", "rank --across benches", "compare --across benches",
        "noise-floor",
    ),
    "gallery": (
        *_OF_ALL, "compare --bench north", "compare --bench south --detail",
        "compare --group moving --bench north", "compare --workload boot --only worse",
        "compare --role secondary --against g3+matt --bench north", "compare --across benches",
        "compare --between panel", "compare --between firmware", "compare --between bench",
        "series firmware", "series firmware --at panel=bright --detail", "claims --format markdown",
        "rank --for quiet", "rank --per price", "rank --per cores --across benches",
        "rank --metric time --bench south", "rank --role secondary", "factors --to g5+bright",
        "factors --to g5+matt --bench north", "runs --bench south --round 2 --workload boot",
        "runs --configuration control", "table --bench north --role detail", "plan --detect 3%",
        "compare --group Moving --bench north", "compare --between size",
    ),
    "atelier": (
        *_OF_ALL[:-1], "compare --bench apse", "compare --bench nave",
        "compare --bench crypt --detail", "compare --group quick --as-factor --bench apse",
        "compare --against d2+stereo+wide --bench apse --sort size",
        "compare --only equivalent --bench apse", "compare --metric jitter",
        "compare --across benches", "compare --across benches --workload meteor",
        "compare --between lens", "compare --between mode --bench apse", "compare --between bench",
        "compare --between size --bench apse", "compare --between workload --bench crypt",
        "claims", "claims --detail", "claims --gate refuted", "claims --gate supported",
        "rank --for visitors", "rank --for staff --bench nave --detail", "rank --per cores",
        "rank --per price --bench nave", "rank --across benches --configuration d1+mono+wide",
        "rank --per meteor --bench apse", "rank --metric rate --bench apse", "rank --role detail",
        "factors --bench nave", "factors --bench crypt", "factors --to d3+stereo+wide",
        "factors --against d2+mono+flat --to d3+mono+wide --bench apse", "factors --metric lamp",
        "factors --group quick --detail --bench apse", "table --detail --bench apse",
        "table --bench crypt", "table --workload eclipse --detail", "table --configuration d2+mono",
        "runs --excluded", "runs --workload eclipse --bench nave", "runs --metric jitter --round 9",
        "runs --configuration d3+mono+wide --bench crypt --all", "noise-floor", "reference",
        "plan --bench apse --detail", "plan --bench nave --rounds 12", "plan --detect 1%",
        "plan --interaction driver:mode", "plan --design separate", "plan --sd 2% --detect 3%",
        "history --all", "chart nothing", "compare --sort name --group quick",
        "compare --format junit --bench crypt", "compare --format csv --workload meteor",
        "compare --gate worse --bench apse", "compare --gate not-equivalent --bench crypt",
    ),
}  # fmt: skip


def restore(name: str, directory: Path) -> Ferocal:
    """A kept study in a directory."""
    kept, ferocal = KEPT / name, Ferocal(directory)
    ferocal.write((kept / "study.toml").read_text(encoding="utf-8"))
    content = gzip.decompress((kept / "kept.sqlite.gz").read_bytes())
    (directory / LEDGER_FILE).write_bytes(content)
    return ferocal


def answer(command: str, ferocal: Ferocal) -> Any:
    """What a command says of it as JSON, but for what hangs on the directory and the hour."""
    return _lasting(ferocal.json(*command.split()))


def text(command: str, ferocal: Ferocal) -> list[str]:
    """What a command says of it to people, in lines behind the exit status."""
    status, out, error = ferocal.attempt(*command.split())
    for report in map(ferocal.directory.joinpath, _REPORTS):
        if report.exists():
            out += report.read_text(encoding="utf-8")
            report.unlink()
    said = _OF_HERE.sub("", f"{out}{error}").replace(str(ferocal.directory), "DIR")
    lines = said.replace(__version__, "0.0.0").rstrip().splitlines()
    return [f"exit status {status}", *(line.rstrip() for line in lines)]


def _lasting(value: Any) -> Any:
    if isinstance(value, dict):
        return {k: _lasting(v) for k, v in value.items() if k not in _OF_THE_HOUR}
    if isinstance(value, list):
        return [_lasting(part) for part in value]
    return value


def written(found: Mapping[str, Iterable[str]]) -> str:
    """Texts by what was asked, as one."""
    return "".join(
        f"$ {asked}\n" + "".join(f"{line}\n" for line in lines) for asked, lines in found.items()
    )


def parsed(content: str) -> dict[str, list[str]]:
    """The same as it was before."""
    parts = [part.splitlines() for part in content.removeprefix("$ ").split("\n$ ")]
    return {asked: lines for asked, *lines in parts}


def main() -> None:
    """Write the answers and texts anew."""
    for name in NUMBERS:
        with tempfile.TemporaryDirectory() as directory:
            ferocal = restore(name, Path(directory))
            found = {command: answer(command, ferocal) for command in NUMBERS[name]}
            said = {command: text(command, ferocal) for command in WORDS[name]}
        lines = ",\n".join(f"{json.dumps(c)}: {json.dumps(a)}" for c, a in found.items())
        (KEPT / name / ANSWERS).write_text(f"{{\n{lines}\n}}\n", encoding="utf-8")
        (KEPT / name / TEXTS).write_text(written(said), encoding="utf-8")


if __name__ == "__main__":
    main()
