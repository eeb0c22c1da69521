"""Looking at the noise of a bench, and keeping what was seen with the study."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from ferocal.analysis.inference.noise_floors import estimate_noise
from ferocal.bench.execution import local_executor
from ferocal.bench.machine import ThisMachine
from ferocal.bench.noise_look import NoiseLook, look_at_noise
from ferocal.ledger.writing.additions import record_look
from ferocal.ledger.writing.opening import open_ledger
from ferocal.measure.lock import measuring_lock
from ferocal.measure.machines import machine_of
from ferocal.study.load import STUDY_FILE, load_study

# The change whose rounds are reported, and the runs of a visit.
CHANGES = (0.01, 0.03, 0.1)
RUNS = 3
# From these shares on something is worth changing first.
_STOLEN, _OTHERS, _CLOCK = 0.01, 0.05, 0.05


def take_look(
    directory: Path, bench: str | None, seconds: float, progress: Callable[[float], None]
) -> tuple[dict[str, Any], str | None]:
    """What a look shows, and the bench with which it was kept, None without a study.

    Raises
    ------
    UsageError
        When it is not clear which bench of the study this machine is.
    FerocalError
        When something is being measured here, or the loop does not run.
    """
    if not (directory / STUDY_FILE).exists():
        with local_executor(Path()) as executor:
            here = ThisMachine(executor, seen=True)
            return figures_of(look_at_noise(here, seconds, progress)), None
    from ferocal.measure.whereabouts import find_bench

    study = find_bench(load_study(directory), bench)
    with measuring_lock(study), machine_of(study, lambda told: None) as machine:
        figures = figures_of(look_at_noise(machine, seconds, progress))
        with open_ledger(directory, create=True) as ledger:
            record_look(ledger, study.bench, figures)
    return figures, study.bench


def figures_of(look: NoiseLook) -> dict[str, Any]:
    """A look in figures, as they are kept."""
    noise = estimate_noise([stretch.walls for stretch in look.stretches])
    clocks = _seen(look, "clock_mhz")
    walls = sorted(wall for stretch in look.stretches for wall in stretch.walls)
    figures: dict[str, Any] = {
        "seconds": round(look.seconds, 1),
        "stretches": len(look.stretches),
        "runs": len(walls),
        "loop_seconds": walls[len(walls) // 2],
        "run_sd": noise.run_sd,
        "stretch_sd": noise.stretch_sd,
        "rounds": [
            {"change": change, "runs": RUNS, "rounds": noise.rounds_for(change, RUNS)}
            for change in CHANGES
        ],
        "others": _mean([s.others for s in look.stretches]),
        "stolen": _mean([s.stolen for s in look.stretches]),
        "busiest": list(dict.fromkeys(n for s in look.stretches for n in s.names))[:3],
        "clock_mhz": [min(clocks), max(clocks)] if clocks else None,
        "governor": next(iter(_seen(look, "governor")), None),
        "on_mains": next(iter(_seen(look, "on_mains")[::-1]), None),
        "timer_seconds": look.timer,
        "unreadable": list(look.unreadable),
    }
    return {**figures, "first": list(_what_to_change(figures))}


def _seen(look: NoiseLook, key: str) -> list[Any]:
    return [s.conditions[key] for s in look.stretches if s.conditions.get(key) is not None]


def _mean(shares: list[float | None]) -> float | None:
    known = [share for share in shares if share is not None]
    return sum(known) / len(known) if known else None


def _what_to_change(figures: dict[str, Any]) -> list[str]:
    """What to change first, the largest cause before the others."""
    found: list[tuple[float, str]] = []
    stolen, others, clock = figures["stolen"], figures["others"], figures["clock_mhz"]
    if stolen is not None and stolen > _STOLEN:
        text = f"the host of this virtual machine took {100 * stolen:.1f} % of processor time: "
        text += "move to a dedicated one, or set stolen-below under [bench.NAME.quiet]"
        found.append((stolen, text))
    if others is not None and others > _OTHERS:
        who = f" ({', '.join(figures['busiest'])})" if figures["busiest"] else ""
        text = f"other processes took {100 * others:.1f} % of processor time{who}: stop them, or "
        found.append((others, f"{text}set others-below under [bench.NAME.quiet]"))
    if figures["on_mains"] is False:
        found.append((1.0, "the machine runs on its battery: connect it to the mains"))
    if figures["governor"] not in (None, "performance"):
        text = f'the frequency governor is "{figures["governor"]}": set it to "performance"'
        found.append((0.5, text))
    if clock and clock[1] / clock[0] - 1 > _CLOCK:
        text = f"the clock moved from {clock[0]:.0f} to {clock[1]:.0f} MHz: fix it, or let the "
        found.append((clock[1] / clock[0] - 1, f"{text}machine settle before every visit"))
    return [text for _, text in sorted(found, reverse=True)]
