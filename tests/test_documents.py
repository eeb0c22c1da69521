"""Every command that the README and the documents show is run, where it makes sense."""

from __future__ import annotations

import re
import shlex
import shutil
import subprocess
from pathlib import Path

import pandas as pd
import pytest

from conftest import Ferocal
from ferocal.cli.main import SECTIONS

ROOT = Path(__file__).parents[1]
# What docs/json.md names is run by the test of its schemas, the nightly pipeline by one of nights.
RUN_ELSEWHERE = ("json", "nightly")
PAGES = [page for page in sorted((ROOT / "docs").glob("*.md")) if page.stem not in RUN_ELSEWHERE]
# The commands of the one that has no command of its own are run by a test of the examples.
EXAMPLES = [
    page
    for page in sorted((ROOT / "examples").glob("*/README.md"))
    if page.parent.name != "notebook-and-stopwatch"
]
FILES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *PAGES, *EXAMPLES]
NAMES = [name for section in SECTIONS.values() for name in section]
# What stands for something in a command, and where such a command makes sense.
PLACEHOLDERS = {
    "FACTOR": "firmware", "NAME": "duration", "X": "api", "FILE": "all.csv",
    "FILE.json": "all.json", "RUN": "{run}", "METRIC": "rate", "VALUE": "75.2", "WHY": "typo",
    "3f9a12c07b": "{run}",
}  # fmt: skip


def documented() -> list[str]:
    """All commands in the documents, each once."""
    found: dict[str, None] = {}
    for path in FILES:
        text = path.read_text(encoding="utf-8")
        for language, block in re.findall(r"```(\w*)\n(.*?)```", text, re.DOTALL):
            for line in block.splitlines() if language in ("sh", "") else ():
                match = re.match(r"(?:\$ )?((?:ferocal|make|python3) .*)", line.strip())
                if match:
                    found[re.sub(r"\s+#.*", "", match[1])] = None
        prose = re.sub(r"```.*?```", "", text, flags=re.DOTALL)
        for code in re.findall(r"`((?:ferocal|make|python3) [^`]*)`", prose):
            found[re.sub(r"\s+", " ", code)] = None
    return list(found)


class Scene:
    """A directory with copies of what the commands of the documents are about."""

    def __init__(self, folder: Path, demo: Path) -> None:
        self.folder = folder
        self.demo, self.lobby = folder / "demo", folder / "lobby"
        self.small, self.nightlies = folder / "small", folder / "nightlies"
        shutil.copytree(demo, self.demo)
        for name in ("lobby", "small", "nightlies", "copy"):
            (folder / name).mkdir()
        self._write(self.small, SMALL)
        self._write(self.nightlies, NIGHTLIES)
        self._write(self.lobby, TYPED)
        for place in (self.demo, self.demo / "firmware", self.demo / "kiosk"):
            shutil.copytree(place, folder / "copy" / place.name)
        scores = pd.DataFrame({"workload": ["page"] * 6, "configuration": ["halden-4"] * 3
                               + ["halden-5"] * 3, "metric": "score",
                               "value": [341, 345, 343, 352, 351, 356]})  # fmt: skip
        scores.to_excel(folder / "scores.xlsx", index=False)

    def run_of(self, place: str) -> str:
        """The id of a run of a study, "" where there is none."""
        if not (self.folder / place / "ledger.sqlite").exists():
            return ""
        runs = Ferocal(self.folder / place).json("runs", "--all")["run_list"]
        return str(runs[0]["id"])

    @staticmethod
    def _write(folder: Path, text: str) -> None:
        (folder / "study.toml").write_text(text, encoding="utf-8")


HEAD = '[study]\nquestion = "Is it faster?"\nmargin = "5 %"\nruns = 1\n'
METRIC = """unit = "points"
better = "higher"
role = "primary"
"""
SMALL = f"""{HEAD}rounds = 2
[factor.mode.level.off]
environment = {{ GAIN = "100" }}
verify = [{{ shell = true, command = "echo off", equals = "off" }}]
[factor.mode.level.on]
environment = {{ GAIN = "120" }}
verify = [{{ shell = true, command = "echo off", equals = "on" }}]
[workload.flight]
shell = true
command = "echo score $GAIN.$((FEROCAL_VISIT % 3))"
[workload.flight.metric.score]
{METRIC}source = {{ pattern = "score ([0-9.]+)" }}
"""
NIGHTLIES = f"""{HEAD}rounds = 2
[factor.nightly]
order = "file"
""" + "".join(
    f'[factor.nightly.level.n{n}]\nenvironment = {{ GAIN = "{100 if n < 4 else 130}" }}\n'
    for n in range(6)
) + f"""[workload.flight]
shell = true
command = "echo score $GAIN.$((FEROCAL_VISIT % 3))"
[workload.flight.metric.score]
{METRIC}source = {{ pattern = "score ([0-9.]+)" }}
"""  # fmt: skip
TYPED = f"""{HEAD}rounds = 2
[factor.halden.level.halden-4]
[factor.halden.level.halden-5]
[workload.dome-flight.metric.rate]
unit = "fps"
better = "higher"
[workload.dome-flight.metric.low]
unit = "fps"
better = "higher"
[workload.dome-flight.metric.stutters]
unit = "1/min"
better = "lower"
"""

Setting = tuple[str, str, int]
# Where a command is run that does not fit the demo, what of it is said instead, and how it ends.
SETTINGS: dict[str, Setting] = {
    "ferocal lookup VALUE": ("demo", "lookup 57.70", 0),
    "ferocal lookup RUN": ("demo", "lookup {run}", 0),
    "ferocal series FACTOR": ("demo/kiosk", "series firmware", 0),
    "ferocal series firmware": ("demo/kiosk", "series firmware", 0),
    "ferocal compare --across benches": ("demo/kiosk", "compare --across benches", 0),
    "ferocal compare --between": (".", "compare --study demo --between study copy/demo", 0),
    "ferocal claims": ("demo/firmware", "claims", 0),
    "ferocal combine DIR…": (".", "combine demo copy/demo -o both --yes", 0),
    "ferocal new DIR": (".", "new fresh", 0),
    "ferocal new DIR --by-hand": (".", "new typed --by-hand", 0),
    "ferocal new my-study": (".", "new my-study", 0),
    "ferocal new lobby --from scores.xlsx --baseline halden-4": (
        ".", "new lobby-2 --from scores.xlsx --baseline halden-4", 0),
    "ferocal compare --study lobby": (".", "compare --study lobby-2", 0),
    "ferocal measure": ("nightlies", "measure --level nightly=n0", 0),
    "ferocal measure --decide": ("nightlies", "measure --decide --rounds 10", 0),
    "ferocal measure --seek nightly": ("nightlies", "measure --seek nightly", 0),
    "ferocal measure --here": ("small", "measure --here", 0),
    "ferocal measure --retry": ("small", "measure --here --retry", 0),
    "ferocal merge DIR": ("demo", "merge ../copy/demo", 0),
    "ferocal noise-floor DIR": ("demo", "noise-floor ../demo/kiosk", 2),
    "ferocal noise-floor ../control-of-may": ("demo", "noise-floor ../copy/demo", 0),
    "ferocal demo": (".", "demo --help", 0),
    "ferocal load FILE": ("demo", "load all.csv --preview --again", 0),
    "ferocal add-level FACTOR NAME": (".", "add-level --help", 0),
    "ferocal add-level nightly n6 --like n5 --date 2026-11-30": (
        "nightlies", "add-level nightly n6 --like n5 --date 2026-11-30", 0,
    ),
    "ferocal measure --against previous": ("nightlies", "measure --against previous", 0),
    "ferocal series nightly --gate worse": ("nightlies", "series nightly --gate worse", 0),
    'ferocal load-trace "soak-{bench}-{firmware}-{visit}.csv"': ("demo", "load-trace --help", 0),
    "ferocal load-trace FILE": ("demo", "load-trace --help", 0),
    "ferocal runs --metric NAME": ("demo", "runs --metric duration", 0),
    "ferocal export --traces DIR": ("demo", "export traces.csv --traces traces", 0),
    "ferocal compare --between X": ("demo", "compare --between api", 0),
    "ferocal inspect --noise": ("demo", "inspect --noise 1", 0),
    "ferocal reference": ("demo/kiosk", "reference", 0),
    "ferocal report --identifying": ("demo", "report --identifying", 0),
    "ferocal schema NAME": (".", "schema compare", 0),
    "ferocal chart KIND": ("demo", "chart bars", 0),
    "ferocal open": (".", "open --help", 0),
    "ferocal open BUNDLE DIR": (".", "open --help", 0),
    # Which of the two it does depends on the machine; a test of the page has both.
    "ferocal report -o report.pdf": ("demo", "report --help", 0),
}  # fmt: skip


def setting_of(command: str) -> Setting:
    """Where and how a command of the documents is run."""
    words = shlex.split(command)[1:]
    if command in SETTINGS:
        return SETTINGS[command]
    if any(word.startswith("examples/") for word in words):
        # What they measure is not there yet: the study is understood, and the command is one.
        assert words[0] in NAMES
        return (
            ".",
            shlex.join(["inspect", "--study", str(ROOT / words[words.index("--study") + 1])]),
            0,
        )
    if words[0] == "enter" and len(words) > 1:
        return ("lobby", shlex.join(words), 0)
    if words[0] == "correct" and len(words) > 1:
        return ("lobby", shlex.join(PLACEHOLDERS.get(w, w) for w in words), 0)
    if words[0] == "reference" and "add" in words:
        return ("demo/kiosk", shlex.join(words), 0)
    needs_more = (
        "correct", "enter", "exclude", "restore", "load", "load-trace", "series", "merge", "repair",
    )  # fmt: skip
    if len(words) == 1 and words[0] in needs_more:
        return (".", f"{words[0]} --help", 0)
    return ("demo", shlex.join(PLACEHOLDERS.get(w, w) for w in words), 0)


def test_every_command_of_the_documents_runs(
    demo: tuple[Ferocal, str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.delenv("FEROCAL_LOCKS")
    scene, wrong = Scene(tmp_path, demo[0].directory), {}
    commands = [command for command in documented() if command.startswith("ferocal")]
    assert len(commands) > 50
    # What others need comes before them, in whatever order the documents name them.
    for command in sorted(commands, key=lambda c: not re.search(" (new|export|enter|add) ", c)):
        place, words, status = setting_of(command)
        words = words.replace("{run}", scene.run_of(place))
        ended, out, error = Ferocal(tmp_path / place).attempt(*shlex.split(words))
        if ended != status:
            wrong[command] = f"{place}: ferocal {words}: {ended}, {error or out[-300:]}"
    assert wrong == {}, "\n".join(wrong.values())
    assert {name for name in NAMES if not any(f"ferocal {name}" in c for c in commands)} == set()


def test_what_else_the_documents_call_is_there() -> None:
    for command in documented():
        words = shlex.split(command)
        if words[0] == "make":
            dry = ["make", "-n", *words[1:]]
            assert subprocess.run(dry, cwd=ROOT, check=True, capture_output=True).stdout
        elif words[0] == "python3":
            assert words[1:4] == ["-m", "pip", "install"], command
            assert (ROOT / words[4].partition("[")[0]).is_dir()
