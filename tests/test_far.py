"""Benches that are reached over a connection, with a real server of it on the loopback."""

from __future__ import annotations

import contextlib
import getpass
import itertools
import json
import os
import pwd
import random
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import zlib
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import psutil
import pytest

from conftest import PROGRAM, Ferocal, surroundings
from ferocal.ledger.opening import read_ledger
from ferocal.ledger.reading.visits import read_visits, recorded_facts
from test_measure import wait_until

SERVER = shutil.which("sshd") or "/usr/sbin/sshd"


def can_connect() -> bool:
    """Whether there is a server, and the user is one that it knows."""
    try:
        pwd.getpwuid(os.geteuid())
    except KeyError:
        return False
    return Path(SERVER).exists() and shutil.which("ssh") is not None


needs_server = pytest.mark.skipif(not can_connect(), reason="needs a server of ssh")

STUDY = """
[study]
question = "Is the new driver faster on the far dome?"
margin = "5 %"
rounds = {rounds}
runs = 2
secrets = ["SHOW_KEY"]
[bench.node-7]
host = "node-7"
directory = "{place}"
reconnect = "{reconnect}"
[factor.driver.level.r61]
switch = "sh -c 'echo 61 > driver'"
verify = [{{ command = "cat driver", equals = "61" }}, {{ running = "program", contains = "sh" }}]
[factor.driver.level.r64]
switch = "sh -c 'echo 64 > driver'"
verify = [{{ command = "cat driver", equals = "64" }}]
[workload.flight]
shell = true
command = '''
echo ms > frames.csv; for n in 1 2 3 4 5 6 7 8 9; do echo 16.$n >> frames.csv; done
{more}
echo "key $SHOW_KEY in $PWD"; echo score $((100 + $(cat driver)))'''
files = ["driver"]
version = "echo 3.1"
[workload.flight.metric.score]
unit = "points"
better = "higher"
source = {{ pattern = "score ([0-9.]+)" }}
[workload.flight.metric.wall]
unit = "s"
better = "lower"
source = "wall-time"
[workload.flight.metric.frame-time]
kind = "frames"
source = {{ file = "frames.csv", column = "ms" }}
"""
CLIENT = """Host *
  HostName 127.0.0.1
  Port {port}
  User {user}
  IdentityFile {here}/user
  IdentitiesOnly yes
  UserKnownHostsFile {here}/known
  StrictHostKeyChecking accept-new
"""
SERVED = """Port {port}
ListenAddress 127.0.0.1
HostKey {here}/host
AuthorizedKeysFile {here}/user.pub
StrictModes no
UsePAM no
PidFile none
PermitRootLogin yes
SetEnv {environment}
"""


class Far:
    """A server of connections, and what is there."""

    def __init__(self, here: Path) -> None:
        self.here, self.place, self.scratch = here, here / "place", here / "tmp"
        for made in (self.place, self.scratch, here / "bin"):
            made.mkdir()
        for name in ("host", "user"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", here / name],
                           check=True)  # fmt: skip
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        client = CLIENT.format(port=self.port, user=getpass.getuser(), here=here)
        (here / "client").write_text(client)
        program = here / "bin" / "ssh"
        program.write_text(f'#!/bin/sh\nexec {shutil.which("ssh")} -F {here}/client "$@"\n')
        program.chmod(0o755)
        self.environment = {
            "PATH": f"{program.parent}:{os.environ['PATH']}",
            "SHOW_KEY": "orrery-9",
        }
        self.server: subprocess.Popen[bytes] | None = None

    def start(self, *before: str, **variables: str) -> None:
        given = {"TMPDIR": str(self.scratch), **variables}
        text = SERVED.format(
            port=self.port, here=self.here,
            environment=" ".join(f"{name}={value}" for name, value in given.items()),
        )  # fmt: skip
        (self.here / "served").write_text(text)
        if os.geteuid() == 0:
            Path("/run/sshd").mkdir(exist_ok=True)
        self.server = subprocess.Popen(
            [*before, SERVER, "-D", "-f", self.here / "served", "-E", self.here / "log"]
        )
        wait_until(lambda: "Server listening" in self.log())

    def measure(self, ferocal: Ferocal, status: int = 0) -> subprocess.CompletedProcess[str]:
        """Measure a study whose bench is there."""
        return ferocal("measure", status=status, **self.environment)

    def log(self) -> str:
        path = self.here / "log"
        return path.read_text() if path.exists() else ""

    def stop(self) -> None:
        assert self.server is not None
        for process in [*self.sessions(), psutil.Process(self.server.pid)]:
            process.kill()
        self.server.wait()
        (self.here / "log").unlink()

    def sessions(self) -> list[psutil.Process]:
        """The processes of the server for connections that there are."""
        assert self.server is not None
        return psutil.Process(self.server.pid).children()

    def left(self) -> list[str]:
        """What is left of connections that have ended."""
        return [path.name for path in self.scratch.iterdir() if path.suffix != ".lock"]


@pytest.fixture
def far(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Far]:
    far = Far(tmp_path_factory.mktemp("far"))
    far.start()
    yield far
    far.stop()


def write(ferocal: Ferocal, far: Far, rounds: int = 2, more: str = "", **values: str) -> None:
    given: dict[str, Any] = {"reconnect": "5 min", "place": far.place, **values}
    ferocal.write(STUDY.format(rounds=rounds, more=more, **given))


def runs_of(ferocal: Ferocal) -> Any:
    return ferocal.json("runs", "--all")["run_list"]


@needs_server
def test_a_far_bench_is_measured_as_this_machine_is(
    ferocal: Ferocal, far: Far, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The same study measured over the connection and here says the same, but for times."""
    seen = "ps -eo args > arguments; sleep 0.3"
    write(ferocal, far, more=seen)
    far.measure(ferocal)
    near = Ferocal(tmp_path / "near")
    near.directory.mkdir()
    text = STUDY.format(rounds=2, more=seen, place="", reconnect="1 s")
    unreached = ('host = "node-7"\n', 'directory = ""\n', 'reconnect = "1 s"\n')
    for line in unreached:
        text = text.replace(line, "")
    near.write(text)
    near("measure", SHOW_KEY="orrery-9")
    monkeypatch.setenv("SHOW_KEY", "orrery-9")
    for there, here in zip(runs_of(ferocal), runs_of(near), strict=True):
        assert there["outcome"] == here["outcome"] == "ok"
        assert there["values"].keys() == here["values"].keys()
        same = [name for name in there["values"] if name != "wall"]
        assert [there["values"][n] for n in same] == [here["values"][n] for n in same]
        assert 0.3 < there["values"]["wall"]["value"] < 30
        assert there["conditions"].keys() == here["conditions"].keys()
        moment, other = there["conditions"]["before"], here["conditions"]["before"]
        assert moment.keys() == other.keys()
        assert moment["load"] is not None and moment["free_memory_mib"] > 100
    assert recorded(ferocal) == recorded(near)
    # The commands ran there, and no value of a secret was in the words of any command.
    assert (far.place / "driver").exists() and not (ferocal.directory / "driver").exists()
    assert "bench.far" not in (words := (far.place / "arguments").read_text())
    assert "orrery-9" not in words and far.left() == []
    assert b"orrery-9" not in (ferocal.directory / "ledger.sqlite").read_bytes()


def recorded(ferocal: Ferocal) -> list[Any]:
    """What was recorded of every visit: its state, checks, subjects and facts.

    Which processes of a run are seen hangs on the moment; two facts are of the program there.
    """
    with read_ledger(ferocal.directory) as ledger:
        facts, visits = recorded_facts(ledger), read_visits(ledger).values()
    for visit in visits:
        for check in visit.checks:
            if "running" in check["expected"]:
                assert "sh" in check.pop("seen")
    own = ("Python", "cores allowed")
    told = {key: [f for f in known if f["name"] not in own] for key, known in facts.items()}
    return [(v.configuration, v.state, v.checks, v.subjects, told[v.facts_id]) for v in visits]


@needs_server
def test_cut_connections_cost_no_run_and_double_none(ferocal: Ferocal, far: Far) -> None:
    write(ferocal, far, rounds=4, more="sleep 0.2")
    chance, cuts = random.Random(4), 0
    calls = 0
    while calls < 20:
        calls += 1
        process = subprocess.Popen(
            [PROGRAM, "measure"], cwd=ferocal.directory, env={**surroundings(), **far.environment},
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
        )  # fmt: skip
        while process.poll() is None and cuts < 8:
            try:
                process.wait(chance.uniform(0.2, 1.5))
            except subprocess.TimeoutExpired:
                for session in far.sessions():
                    session.kill()
                    cuts += 1
        said, _ = process.communicate()
        # Before it was connected there was nothing to connect again.
        assert process.returncode == 0 or "cannot be reached" in said, said
        if process.returncode == 0:
            break
    assert cuts >= 2
    found = runs_of(ferocal)
    assert Counter(r["outcome"] for r in found)["ok"] == 16
    places = Counter((r["round"], r["configuration"], r["number"])
                     for r in found if r["outcome"] == "ok")  # fmt: skip
    assert set(places.values()) == {1}
    assert {r["outcome"] for r in found} <= {"ok", "interrupted"}
    wait_until(lambda: far.left() == [])


@needs_server
def test_who_ends_ends_what_runs_there(ferocal: Ferocal, far: Far, tmp_path: Path) -> None:
    """Killed here, a command ends there; another one is told who measures."""
    write(ferocal, far, more="echo $$ > number; exec sleep 1000")
    measuring = [PROGRAM, "measure"]
    environment = {**surroundings(), **far.environment}
    process = subprocess.Popen(measuring, cwd=ferocal.directory, env=environment)
    number = far.place / "number"
    wait_until(lambda: number.exists() and number.read_text().strip() != "")
    other = Ferocal(tmp_path / "other")
    other.directory.mkdir()
    write(other, far)
    other.write((other.directory / "study.toml").read_text().replace("node-7]", "node-8]"))
    done = far.measure(other, status=1)
    assert f"{getpass.getuser()} on {os.uname().nodename} measures there already" in done.stderr
    running = int(number.read_text())
    assert psutil.pid_exists(running)
    process.send_signal(signal.SIGKILL)
    process.wait()
    wait_until(lambda: not psutil.pid_exists(running))
    wait_until(lambda: far.left() == [])
    write(ferocal, far, more="sleep 0.2")
    far.measure(ferocal)
    assert Counter(r["outcome"] for r in runs_of(ferocal)) == {"ok": 8, "interrupted": 1}


@needs_server
def test_what_cannot_be_reached_says_why(ferocal: Ferocal, far: Far) -> None:
    write(ferocal, far, place=str(far.place / "gone"))
    refused = far.measure(ferocal, status=1).stderr
    assert f"node-7: there is no directory {far.place}/gone" in refused
    far.stop()
    write(ferocal, far)
    refused = far.measure(ferocal, status=1).stderr
    assert "node-7 cannot be reached" in refused and "refused" in refused
    (far.here / "only").mkdir()
    (far.here / "only" / "sh").symlink_to("/bin/sh")
    far.start(PATH=str(far.here / "only"))
    refused = far.measure(ferocal, status=1).stderr
    assert "node-7: no Python 3.9 or newer was found there" in refused
    for line, why in (
        ('host = "-oProxyCommand=x"', "is no host"),
        ('host = "node-7"\nthis-machine = true', "with a host it is not this machine"),
        ("", "for benches with a host"),
    ):
        text = (ferocal.directory / "study.toml").read_text()
        ferocal.write(text.replace('host = "node-7"', line))
        assert why in ferocal.refusal("inspect")
        ferocal.write(text)


def test_what_is_sent_needs_no_package_and_no_new_python() -> None:
    import ast

    from ferocal.bench.connection import program

    text = program().decode()
    ast.parse(text, feature_version=(3, 9))
    sources = ast.literal_eval(text.split(" in ", 2)[2].partition(":\n")[0])
    for name, source in sources:
        tree = ast.parse(source, feature_version=(3, 9))
        imported = {
            alias.name.partition(".")[0] if isinstance(node, ast.Import) else node.module or ""
            for node in ast.walk(tree) if isinstance(node, ast.Import | ast.ImportFrom)
            for alias in node.names
        }  # fmt: skip
        outside = {n for n in imported if n.partition(".")[0] not in sys.stdlib_module_names}
        assert outside <= {"ferocal.bench", "ferocal.bench.files"}, name


BOOTS = """
[study]
question = "Does the dome start faster with it?"
margin = "5 %"
rounds = 2
runs = 1
[bench.node-7]
host = "node-7"
directory = "{place}"
reboot = ["{here}/reboot"]
[factor.mode.level.plain]
switch = "sh -c 'echo plain > {here}/volatile'"
verify = [{{ command = "cat {here}/volatile", equals = "plain" }}]
[factor.mode.level.bright]
switch = "sh -c 'echo bright > {here}/volatile'"
verify = [{{ command = "cat {here}/volatile", equals = "bright" }}]
[factor.kernel.level.k1]
switch = "sh -c 'echo k1 > next'"
reboot = true
verify = [{{ command = "cat {here}/kernel", equals = "k1" }}]
[factor.kernel.level.k2]
switch = "sh -c 'echo k2 > next'"
reboot = true
verify = [{{ command = "cat {here}/kernel", equals = "k2" }}]
[workload.start]
shell = true
command = "echo score $(cat /proc/sys/kernel/random/boot_id | wc -c)"
[workload.start.metric.score]
unit = "points"
better = "higher"
source = {{ pattern = "score ([0-9.]+)" }}
"""
# Starts the "machine" anew: what does not last is gone, and all connections.
REBOOT = """#!/bin/sh
cp {place}/next {here}/kernel
rm -f {here}/volatile
cat /proc/sys/kernel/random/uuid > {here}/boot
(sleep 0.3; pkill -KILL -P {server}) >/dev/null 2>&1 &
sleep 1000
"""


@needs_server
def test_levels_that_need_a_reboot_are_proven_on_the_next_start(
    ferocal: Ferocal, tmp_path_factory: pytest.TempPathFactory
) -> None:
    if os.geteuid() or subprocess.run(["unshare", "--mount", "true"], check=False).returncode:
        pytest.skip("needs the right to mount")
    far = Far(tmp_path_factory.mktemp("far"))
    boot = far.here / "boot"
    boot.write_text("first\n")
    # Of this server only it looks as if the machine were started anew.
    far.start(
        "unshare", "--mount", "sh", "-c",
        f'mount --bind {boot} /proc/sys/kernel/random/boot_id && exec "$0" "$@"',
    )  # fmt: skip
    assert far.server is not None
    script = far.here / "reboot"
    script.write_text(REBOOT.format(place=far.place, here=far.here, server=far.server.pid))
    script.chmod(0o755)
    try:
        ferocal.write(BOOTS.format(place=far.place, here=far.here))
        far.measure(ferocal)
        assert Counter(r["outcome"] for r in runs_of(ferocal)) == {"ok": 8}
        kinds = [row[0] for row in rows(ferocal, "SELECT kind FROM step ORDER BY id")]
        visits = rows(ferocal, "SELECT levels FROM visit ORDER BY id")
        kernels = [json.loads(levels)["kernel"] for (levels,) in visits]
        # Between two visits to one configuration the machine is started anew, too.
        changes = sum(a != b for a, b in itertools.pairwise(kernels))
        assert changes + 1 <= kinds.count("reboot") <= changes + 2
        assert boot.read_text() != "first\n"
        script.write_text("#!/bin/sh\necho no right >&2; exit 1\n")
        (far.here / "kernel").write_text("k0\n")
        ferocal.write((ferocal.directory / "study.toml").read_text().replace("s = 2", "s = 3"))
        refused = far.measure(ferocal, status=1).stderr
        assert "ended with exit status 1: no right; set `reboot` of the bench" in refused
    finally:
        far.stop()
    near = BOOTS.format(place=far.place, here=far.here).replace('host = "node-7"\n', "")
    ferocal.write(near.replace(f'directory = "{far.place}"\n', "").replace("\nreboot = [", "\n#"))
    assert "only a bench with a host can be started anew" in ferocal.refusal("inspect")


def rows(ferocal: Ferocal, query: str) -> list[Any]:
    with contextlib.closing(sqlite3.connect(ferocal.directory / "ledger.sqlite")) as driver:
        return driver.execute(query).fetchall()


DEVICE = """
[study]
question = "Is the lobby screen faster with it?"
margin = "5 %"
rounds = 2
runs = 1
secrets = ["SHOW_KEY"]
[bench.lobby]
through = ["env", "-i", "PATH=/usr/bin:/bin"]
{host}
[bench.lobby.probe]
panel = {{ command = "echo P40", kind = "hardware" }}
[factor.mode.level.off]
environment = {{ GAIN = "100", KEY = "orrery-9" }}
verify = [{{ command = "sh -c 'echo $GAIN'", equals = "100" }}]
[factor.mode.level.on]
environment = {{ GAIN = "120" }}
verify = [{{ command = "sh -c 'echo $GAIN'", equals = "120" }}]
[workload.page]
shell = true
command = '''echo home ${{HOME-none}} key ${{KEY-none}}; echo score $GAIN'''
[workload.page.metric.score]
unit = "points"
better = "higher"
source = {source}
"""


@needs_server
def test_devices_are_reached_through_words_before_every_command(
    ferocal: Ferocal, far: Far, tmp_path: Path
) -> None:
    """Near and over a connection: what is there has only what it is given, and its own facts."""
    pattern = '{ pattern = "score ([0-9.]+)" }'
    for host in ("", f'host = "node-7"\ndirectory = "{far.place}"'):
        ferocal = Ferocal(tmp_path / (host[:4] or "near"))
        ferocal.directory.mkdir()
        ferocal.write(DEVICE.format(host=host, source=pattern))
        far.measure(ferocal)
        values = {r["configuration"]: r["values"]["score"]["value"] for r in runs_of(ferocal)}
        assert values == {"off": 100, "on": 120}
        assert all(set(r["conditions"]["before"]) == set() for r in runs_of(ferocal))
        facts = [fact for _, _, _, _, told in recorded(ferocal) for fact in told]
        assert {(f["name"], f["value"], f["kind"]) for f in facts} == {("panel", "P40", "hardware")}
        outputs = rows(ferocal, "SELECT content FROM output")
        assert all(b"home none key none" in zlib.decompress(kept) for (kept,) in outputs)
        timed = DEVICE.format(host=host, source='"wall-time"').replace('"points"', '"s"')
        ferocal.write(timed)
        refused = ferocal.refusal("inspect")
        assert "would be that of `env` here, not of the work on lobby" in refused
