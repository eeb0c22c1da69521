"""Make the pictures in docs/screenshots from the demo data: real terminals, a real browser.

Needs Xvfb, xterm, xdotool, ImageMagick (import) and Chromium. Run it with ``make screenshots``.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

DOCS = Path(__file__).parent
PICTURES = DOCS / "screenshots"
PROGRAM = Path(sys.executable).with_name("ferocal")
DISPLAY = ":93"
TERMINAL = [
    "xterm", "-fa", "DejaVu Sans Mono", "-fs", "11", "-geometry", "141x42+0+0",
    "-bg", "#fbfcfd", "-fg", "#1c2833", "-xrm", "XTerm*scrollBar:false",
]  # fmt: skip
BROWSER = [
    "chromium", "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic",
    "--no-first-run", "--disable-background-networking", "--disable-component-update",
    "--disable-sync", "--hide-scrollbars",
]  # fmt: skip
# Done as told; a time kept, one taken again for it was too short; a number mistyped, then a
# range off the display. Numbers are pauses in seconds.
OPERATOR = [
    "Return", "space", 2.6, "space", "Return", "space", "space", "a", "space", 2.1, "space",
    "Return", *"5x", "Return", *"510", "period", "period", *"520", "Return",
]  # fmt: skip


def shoot_terminal(
    name: str, command: str, directory: Path, wait: float = 4.0, keys: Sequence[str | float] = ()
) -> None:
    """Run a command in a terminal window, press keys, and take its picture."""
    typed = command.replace("%%", "%")
    script = f"cd {directory}; printf '$ {command}\\n'; {typed}; sleep 60"
    environment = {
        **os.environ,
        "DISPLAY": DISPLAY,
        "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}",
    }
    window = subprocess.Popen([*TERMINAL, "-e", "bash", "-c", script], env=environment)
    time.sleep(wait)
    for key in keys:
        if isinstance(key, str):
            subprocess.run(["xdotool", "key", key], env=environment, check=True)
        time.sleep(0.5 if isinstance(key, str) else key)
    picture = PICTURES / f"{name}.png"
    subprocess.run(
        ["import", "-window", "root", str(picture)], env=environment, check=True, timeout=30
    )
    window.terminate()
    window.wait()


def shoot_page(name: str, page: Path, profile: Path) -> None:
    """Take a picture of the top of a page."""
    subprocess.run(
        [
            *BROWSER,
            f"--user-data-dir={profile}",
            "--window-size=1280,800",
            f"--screenshot={PICTURES / name}.png",
            page.as_uri(),
        ],
        check=True,
        capture_output=True,
        timeout=120,
    )


# What an analyst wrote into a notebook: one reading of everything, and what could not be read.
NOTEBOOK = """
[study]
question = "Does Halden 5 slow the lobby kiosk down?"
margin = "2 %"
[factor.system.level.halden-4]
[factor.system.level.halden-5]
[workload.kiosk-page.metric]
score = { unit = "points", better = "higher" }
average = { unit = "fps", better = "higher" }
low = { unit = "fps", better = "higher" }
start = { unit = "s", better = "lower" }
memory = { unit = "MiB", better = "lower" }
fan = { unit = "rpm", better = "lower" }
storage = { unit = "MB/s", better = "higher" }
sound = { unit = "dB", better = "lower" }
"""
READINGS = {
    "halden-4": "score=5120 average=60.5 low=31 start=21.4 memory=2000 fan=1200..1300 storage=480 "
    "sound=33",
    "halden-5": "score=4988 average=66.1 low=24 start=23 memory=1900 fan=1400 storage=>550 "
    "sound=n/a",
}


def write_notebook(directory: Path) -> None:
    """A study of readings that were typed from a notebook."""
    directory.mkdir()
    (directory / "study.toml").write_text(NOTEBOOK, encoding="utf-8")
    for name, readings in READINGS.items():
        words = ["enter", "kiosk-page", "--configuration", name, *readings.split()]
        subprocess.run([PROGRAM, *words], cwd=directory, check=True, capture_output=True)


def main() -> None:
    """Measure the demo study and take all pictures."""
    PICTURES.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        demo = Path(folder) / "demo"
        screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"])
        try:
            time.sleep(1)
            shoot_terminal("measure", f"ferocal demo {demo}-begun", Path(folder), wait=14)
            subprocess.run([PROGRAM, "demo", str(demo)], check=True, capture_output=True)
            shoot_terminal("help", "ferocal", demo)
            shoot_terminal("inspect", "ferocal inspect | head -40", demo)
            shoot_terminal("plan", "ferocal plan --detect 2%% | head -40", demo)
            shoot_terminal("table", "ferocal table | head -40", demo)
            shoot_terminal(
                "runs", "ferocal runs --workload show-export --metric duration --round 4", demo
            )
            # What fits a screen: the pictures show outputs from their first line.
            shoot_terminal("compare", "ferocal compare --metric frame-rate --metric duration", demo)
            shoot_terminal("frames-table", "ferocal frames | head -40", demo)
            subprocess.run([PROGRAM, "export", "scores.csv"], cwd=demo, check=True)
            copy = Path(folder) / "copy"
            copy.mkdir()
            for name in ("study.toml", "scores.csv"):
                (copy / name).write_bytes((demo / name).read_bytes())
            shoot_terminal("load", "ferocal load scores.csv --preview", copy)
            write_notebook(Path(folder) / "notebook")
            shoot_terminal("notebook", "ferocal compare", Path(folder) / "notebook")
            subprocess.run([PROGRAM, "new", "kiosk", "--by-hand"], cwd=folder, check=True)
            shoot_terminal("by-hand", "ferocal measure", Path(folder) / "kiosk", keys=OPERATOR)
        finally:
            screen.terminate()
            screen.wait()
        for kind in ("frames", "soak"):
            chart = str(PICTURES / f"{kind}.png")
            command = [PROGRAM, kind, "--chart", chart]
            subprocess.run(command, cwd=demo, check=True, capture_output=True)
        shoot_page("report", demo / "report.html", Path(folder) / "profile")


if __name__ == "__main__":
    main()
