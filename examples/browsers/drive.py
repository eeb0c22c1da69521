"""Open one page in a headless browser, print what it posts as JSON, and end the browser.

Usage: drive.py PAGE, or drive.py profile (a fresh one), or drive.py version. The variables
EXAMPLE_BROWSER (chromium or firefox) and EXAMPLE_COMPILER (on or off) say which browser, and
whether it may compile what the page brings.
"""

from __future__ import annotations

import contextlib
import http.server
import json
import os
import shutil
import signal
import subprocess
import sys
import threading
from pathlib import Path
from typing import ClassVar

HERE = Path(__file__).resolve().parent
PROFILE = HERE / "build" / "profile"
# A page that has not posted by then (s) never will.
LIMIT = 100
CHROMIUM = [
    "chromium", "--headless", "--disable-gpu", "--no-first-run", "--disable-extensions",
    "--disable-background-networking", "--disable-component-update", "--disable-sync",
    "--disable-quic", "--disable-crash-reporter", f"--user-data-dir={PROFILE}",
]  # fmt: skip
FIREFOX = ["--headless", "--no-remote", "--profile", str(PROFILE)]
# What a fresh profile would otherwise fetch or show.
QUIET = {
    "app.normandy.enabled": False,
    "app.update.auto": False,
    "browser.aboutwelcome.enabled": False,
    "browser.shell.checkDefaultBrowser": False,
    "browser.startup.homepage_override.mstone": "ignore",
    "datareporting.policy.dataSubmissionEnabled": False,
    "extensions.update.enabled": False,
    "network.captive-portal-service.enabled": False,
    "network.connectivity-service.enabled": False,
    "services.settings.server": "http://127.0.0.1:9/",
    "toolkit.telemetry.enabled": False,
    "toolkit.telemetry.reportingpolicy.firstRun": False,
}
COMPILERS_OFF = {"javascript.options.baselinejit": False, "javascript.options.ion": False}


def firefox() -> str:
    """The browser as the distribution calls it."""
    return shutil.which("firefox-esr") or "firefox"


def is_firefox() -> bool:
    """Whether the configuration asks for this browser."""
    return os.environ["EXAMPLE_BROWSER"] == "firefox"


def command(url: str) -> list[str]:
    """The command that opens a page."""
    if is_firefox():
        return [firefox(), *FIREFOX, url]
    words = list(CHROMIUM)
    if os.environ["EXAMPLE_COMPILER"] == "off":
        words.append("--js-flags=--jitless")
    if os.geteuid() == 0:
        words.append("--no-sandbox")
    return [*words, url]


def make_profile() -> None:
    """A fresh profile, with the preferences of the configuration where that is how it is told."""
    shutil.rmtree(PROFILE, ignore_errors=True)
    PROFILE.mkdir(parents=True)
    if is_firefox():
        wanted = {**QUIET, **(COMPILERS_OFF if os.environ["EXAMPLE_COMPILER"] == "off" else {})}
        lines = [f'user_pref("{name}", {json.dumps(value)});\n' for name, value in wanted.items()]
        (PROFILE / "user.js").write_text("".join(lines), encoding="utf-8")


def show_version() -> None:
    """What the browser says of its version."""
    subprocess.run([firefox() if is_firefox() else "chromium", "--version"], check=True)


class Desk(http.server.SimpleHTTPRequestHandler):
    """Serves the pages, and takes what they post."""

    posted: ClassVar[list[str]] = []
    arrived: ClassVar[threading.Event] = threading.Event()

    def __init__(self, *args: object) -> None:
        super().__init__(*args, directory=str(HERE / "pages"))  # type: ignore[arg-type]

    def do_POST(self) -> None:
        """Take a result."""
        length = int(self.headers["Content-Length"])
        self.posted.append(self.rfile.read(length).decode())
        self.send_response(204)
        self.end_headers()
        self.arrived.set()

    def log_message(self, *args: object) -> None:
        """Requests are not told."""


def open_page(page: str) -> str:
    """What a page posts; the browser's process group is ended after it, as it would not end."""
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Desk)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    url = f"http://127.0.0.1:{server.server_port}/{page}.html"
    log = HERE / "build" / "browser.log"
    with log.open("wb") as output:
        browser = subprocess.Popen(
            command(url), stdout=output, stderr=output, start_new_session=True
        )
        arrived = Desk.arrived.wait(LIMIT)
        with contextlib.suppress(ProcessLookupError):
            os.killpg(browser.pid, signal.SIGKILL)
        browser.wait()
    server.shutdown()
    if not arrived:
        said = log.read_text(errors="replace")[-500:]
        sys.exit(f"{page} has posted nothing within {LIMIT} s; the browser said: {said}")
    return Desk.posted[0]


if __name__ == "__main__":
    task = sys.argv[1]
    if task == "profile":
        make_profile()
    elif task == "version":
        show_version()
    else:
        print(open_page(task))
