"""The simulated bench: what it promises of itself, and that it is the same every time."""

from __future__ import annotations

import math
import os
import statistics
import subprocess
import sys
from pathlib import Path

import pytest

from ferocal.demo import bench
from ferocal.demo.bench import Node


def ignored_switches(seed: str, count: int) -> list[int]:
    """Which of so many switches of the driver take no effect."""
    node, ignored = Node(seed), []
    for number in range(1, count + 1):
        wanted = "r64" if node.installed == "r61" else "r61"
        node.switch("driver", wanted)
        if node.installed != wanted:
            ignored.append(number)
    return ignored


def test_a_driver_is_active_after_a_reboot_only() -> None:
    node = Node("1")
    while node.installed != "r64":
        node.switch("driver", "r64")
    assert node.driver == "r61"
    node.reboot()
    assert node.driver == "r64"


def test_switches_are_ignored_as_often_as_promised_and_by_seed() -> None:
    ignored = ignored_switches("3", 2000)
    assert len(ignored) / 2000 == pytest.approx(bench.CHANCE_OF_IGNORED_SWITCH, abs=0.015)
    assert ignored == ignored_switches("3", 2000) != ignored_switches("4", 2000)


def test_runs_and_visits_vary_as_promised() -> None:
    node, means = Node("5"), []
    within = []
    for _ in range(300):
        node.restart()
        node.temperature = bench.AMBIENT
        node.clock = 0.0
        logs = [math.log(node.run("dome-flight")) for _ in range(4)]
        logs = [log for log in logs if abs(log - statistics.median(logs)) < 0.1]  # no jobs
        means.append(statistics.mean(logs))
        within.append(statistics.variance(logs))
    assert math.sqrt(statistics.mean(within)) == pytest.approx(bench.RUN_SD, rel=0.1)
    visit = statistics.variance(means) - bench.RUN_SD**2 / 4
    assert math.sqrt(visit) == pytest.approx(bench.VISIT_SD, rel=0.25)


def test_it_heats_up_throttles_and_cools_down() -> None:
    node = Node("6")
    scores = [node.run("dome-flight") for _ in range(60)]
    assert node.temperature > bench.THROTTLES_AT
    drop = statistics.median(scores[-10:]) / statistics.median(scores[:10])
    assert drop == pytest.approx(bench.THROTTLED, abs=0.02)
    exports = [node.run("show-export") for _ in range(10)]
    assert statistics.median(exports) > 212 * 1.05  # lower is better: it takes longer
    hot = node.temperature
    node.reboot()
    assert node.temperature < hot - 20


def test_a_background_job_slows_a_run_now_and_then() -> None:
    node, slow = Node("7"), 0
    for _ in range(2000):
        node.temperature, node.clock = bench.AMBIENT, 0.0
        slow += node.run("dome-flight") < 58 * 0.9
    assert slow / 2000 == pytest.approx(bench.CHANCE_OF_JOB, abs=0.007)


def test_memory_is_lost_by_seed_at_a_boot() -> None:
    lost = []
    for seed in range(40):
        node = Node(str(seed))
        for _ in range(60):
            node.reboot()
        lost.append(node.memory == 16)
    assert 0 < sum(lost) < 20  # 1 - 0.998 ** 60 is 11 %


def test_the_truth_of_a_configuration_is_the_product_of_its_levels() -> None:
    base, best = {"driver": "r61", "api": "opengl"}, {"driver": "r64", "api": "vulkan"}
    assert bench.true_change("dome-flight", best, base) == pytest.approx(1.06 * 1.09 - 1)
    assert bench.true_change("dome-flight", base, best) == pytest.approx(1 / (1.06 * 1.09) - 1)
    assert bench.true_change("show-export", best, base) == pytest.approx(-0.05)


def test_it_is_driven_by_commands_and_keeps_its_state_in_a_file(tmp_path: Path) -> None:
    def ask(*words: str, status: int = 0) -> str:
        done = subprocess.run(
            [sys.executable, "-IS", bench.__file__, *words],
            cwd=tmp_path, env={**os.environ, "DOME_SEED": "1"}, capture_output=True, text=True,
            check=False,
        )  # fmt: skip
        assert done.returncode == status, done.stderr
        return done.stdout.strip() or done.stderr.strip()

    assert ask("identify", "driver") == "61.4"
    assert ask("switch", "driver", "r64") == "done"
    assert ask("identify", "driver") == "61.4"
    ask("reboot")
    assert ask("identify", "driver") == "64.0"
    assert ask("fact", "memory") == "32"
    first = ask("run", "catalogue-query")
    assert first.startswith('{"queries_per_s": 1')
    assert ask("run", "catalogue-query") != first
    assert "there is no driver r65" in ask("switch", "driver", "r65", status=1)
    assert "there is no command dance" in ask("dance", status=1)
