"""Make the pictures in docs/screenshots from the demo data: real terminals, a real browser.

Needs Xvfb, xterm, xdotool, ImageMagick (import, identify) and Chromium. Run it with
``make screenshots``. A picture must show the first line of its output, so the output has to fit
the terminal, and must not be blank. With a directory as argument, the same outputs are drawn into
it at 80 and 100 columns, in a light and in a dark terminal, to be looked at. With ``examples``, the
overview of each example that was measured is drawn into its directory instead.
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
# A picture with fewer colours shows nothing.
FEWEST_COLOURS = 8
PROGRAM = Path(sys.executable).with_name("ferocal")
DISPLAY = ":93"
COLUMNS, ROWS = 127, 41
LIGHT = ("#fbfcfd", "#1c2833")
DARK = ("#14191f", "#dde3e8")
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


def terminal(columns: int, colours: tuple[str, str]) -> list[str]:
    """The command of a terminal window that fills the screen."""
    back, ink = colours
    return [
        "xterm", "-fa", "DejaVu Sans Mono", "-fs", "12", "-geometry", f"{columns}x{ROWS}+0+0",
        "-bg", back, "-fg", ink, "-xrm", "XTerm*scrollBar:false",
    ]  # fmt: skip


def check_fits(command: str, directory: Path, columns: int) -> None:
    """Check that an output fits the terminal, so that its picture shows the first line."""
    done = subprocess.run(
        command, shell=True, cwd=directory, env=surroundings(columns), capture_output=True,
        text=True, check=True,
    )  # fmt: skip
    lines = len(done.stdout.splitlines())
    if not 0 < lines < ROWS:
        raise SystemExit(f"{command}: {lines} lines at {columns} columns; {ROWS - 1} fit")


def check_shown(picture: Path) -> None:
    """Check that a picture is not blank."""
    done = subprocess.run(
        ["identify", "-format", "%k", str(picture)], capture_output=True, text=True, check=True
    )
    if int(done.stdout) < FEWEST_COLOURS:
        raise SystemExit(f"{picture} is blank: it has {done.stdout} colours")


def surroundings(columns: int) -> dict[str, str]:
    """The environment of a terminal of so many columns."""
    path = f"{PROGRAM.parent}:{os.environ['PATH']}"
    return {**os.environ, "DISPLAY": DISPLAY, "PATH": path, "COLUMNS": str(columns)}


def await_file(path: Path, limit: float = 60.0) -> None:
    """Wait until a command has left this file, and the window has drawn what it printed."""
    deadline = time.monotonic() + limit
    while not path.exists():
        if time.monotonic() > deadline:
            raise SystemExit(f"{path} is not there after {limit:g} s")
        time.sleep(0.1)
    time.sleep(1)


def shoot_terminal(
    picture: Path,
    command: str,
    directory: Path,
    *,
    wait: float = 4.0,
    keys: Sequence[str | float] = (),
    columns: int = COLUMNS,
    colours: tuple[str, str] = LIGHT,
) -> None:
    """Run a command in a terminal window, press keys, and take its picture."""
    if not keys:
        check_fits(command, directory, columns)
    quoted = command.replace("%", "%%").replace("'", "'\\''")
    ended = directory / ".ended"
    ended.unlink(missing_ok=True)
    script = f"cd {directory}; printf '$ {quoted}\\n'; {command}; touch {ended}; sleep 60"
    environment = surroundings(columns)
    del environment["COLUMNS"]  # the terminal knows
    window = subprocess.Popen(
        [*terminal(columns, colours), "-e", "bash", "-c", script], env=environment
    )
    if keys:
        time.sleep(wait)
    else:
        await_file(ended)
        ended.unlink()
    for key in keys:
        if isinstance(key, str):
            subprocess.run(["xdotool", "key", key], env=environment, check=True)
        time.sleep(0.5 if isinstance(key, str) else key)
    subprocess.run(
        ["import", "-window", "root", str(picture)], env=environment, check=True, timeout=30
    )
    window.terminate()
    window.wait()
    check_shown(picture)


def shoot_page(picture: Path, page: Path, profile: Path, size: str) -> None:
    """Take a picture of the top of a page."""
    subprocess.run(
        [
            *BROWSER,
            f"--user-data-dir={profile}",
            f"--window-size={size}",
            f"--screenshot={picture}",
            page.as_uri(),
        ],
        check=True,
        capture_output=True,
        timeout=120,
    )
    check_shown(picture)


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


# What fits a screen, by the name of its picture; all in the demo study.
OUTPUTS = {
    "compare": "ferocal compare",
    "table": "ferocal table",
    "plan": "ferocal plan --detect 2%",
    "inspect": "ferocal inspect",
    "factors": "ferocal factors --study firmware",
    "claims": "ferocal claims --study firmware",
    "rank": "ferocal rank --study hosts",
    "help": "ferocal",
}


def make_looks(directory: Path, demo: Path) -> None:
    """The outputs in narrow and wide, light and dark terminals."""
    directory.mkdir(parents=True, exist_ok=True)
    for name, command in OUTPUTS.items():
        for columns in (80, 100):
            for shade, colours in (("light", LIGHT), ("dark", DARK)):
                picture = directory / f"{name}-{columns}-{shade}.png"
                # At 80 columns not everything fits: what has scrolled away is above.
                piped = f"COLUMNS={columns} {command} | head -{ROWS - 2}"
                told = command if columns > 80 else piped
                shoot_terminal(picture, told, demo, columns=columns, colours=colours)


def make_pictures(folder: Path, demo: Path) -> None:
    """The pictures that are kept."""
    PICTURES.mkdir(exist_ok=True)
    shoot_terminal(PICTURES / "measure.png", "ferocal demo begun", folder, wait=14, keys=[0.1])
    for name, command in OUTPUTS.items():
        shoot_terminal(PICTURES / f"{name}.png", command, demo)
    subprocess.run([PROGRAM, "export", "scores.csv"], cwd=demo, check=True)
    copy = folder / "copy"
    copy.mkdir()
    for name in ("study.toml", "scores.csv"):
        (copy / name).write_bytes((demo / name).read_bytes())
    shoot_terminal(PICTURES / "load.png", "ferocal load scores.csv --preview", copy)
    write_notebook(folder / "notebook")
    shoot_terminal(PICTURES / "notebook.png", "ferocal compare", folder / "notebook")
    subprocess.run([PROGRAM, "new", "kiosk", "--by-hand"], cwd=folder, check=True)
    shoot_terminal(PICTURES / "by-hand.png", "ferocal measure", folder / "kiosk", keys=OPERATOR)
    for kind in ("frames", "soak"):
        words = [PROGRAM, kind, "-o", str(PICTURES / f"{kind}.png"), "--force"]
        subprocess.run(words, cwd=demo, check=True, capture_output=True)
        check_shown(PICTURES / f"{kind}.png")
    drawn = {
        "chart": "chart",
        "slide": "chart effects --slide",
        "series": "series firmware --study kiosk",
    }
    for name, command in drawn.items():
        drawing = [str(PROGRAM), *command.split(), "-o", str(PICTURES / f"{name}.png"), "--force"]
        subprocess.run(drawing, cwd=demo, check=True, capture_output=True)
        check_shown(PICTURES / f"{name}.png")
    for name, size in (("report", "1280,800"), ("report-phone", "390,800")):
        shoot_page(PICTURES / f"{name}.png", demo / "report.html", folder / "profile", size)


def make_overviews() -> None:
    """The overviews of the examples that were measured."""
    for ledger in sorted((DOCS.parent / "examples").glob("*/ledger.sqlite")):
        shoot_terminal(ledger.with_name("overview.png"), "ferocal compare", ledger.parent)


def make_all(folder: Path, wanted: str | None) -> None:
    """Measure the demo study and take the pictures that are wanted."""
    if wanted == "examples":
        make_overviews()
        return
    demo = folder / "demo"
    subprocess.run([PROGRAM, "demo", str(demo)], check=True, capture_output=True)
    if wanted is None:
        make_pictures(folder, demo)
    else:
        make_looks(Path(wanted).resolve(), demo)


def main() -> None:
    """Take the pictures on a screen of their own."""
    with tempfile.TemporaryDirectory() as folder:
        screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"])
        try:
            time.sleep(1)
            make_all(Path(folder), sys.argv[1] if len(sys.argv) > 1 else None)
        finally:
            screen.terminate()
            screen.wait()


if __name__ == "__main__":
    main()
