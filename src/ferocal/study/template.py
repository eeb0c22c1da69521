"""The study file that `ferocal new` writes."""

from __future__ import annotations

from pathlib import Path

from ferocal.errors import FerocalError, UsageError
from ferocal.study.load import STUDY_FILE

TEMPLATE = '''\
# A Ferocal study: one question, asked of one machine that stays the same.
# Look at it with `ferocal inspect`, take the readings with `ferocal measure`,
# and read the answer with `ferocal compare`.

[study]
question = "Does leaving out assertions make the star catalogue faster?"
margin = "5 %"       # the smallest change that matters to you
rounds = 6           # a round visits every configuration once, in shuffled order
runs = 3             # runs of each workload per visit
seed = 1             # of the shuffled order

# What is varied. Each level says what brings it and how it is proven.
[factor.assertions.level.kept]
verify = [{ command = ["{python}", "-c", "import sys; print(sys.flags.optimize)"], equals = "0" }]

[factor.assertions.level.removed]
environment = { PYTHONOPTIMIZE = "1" }
verify = [{ command = ["{python}", "-c", "import sys; print(sys.flags.optimize)"], equals = "1" }]
# prefix = "nice -n 5"   # words put before the workload's command, such as a launcher

[configuration]
design = "full"      # every combination of levels; or "one-factor", or "listed"
baseline = { assertions = "kept" }

# What is run, and what is read from it. {python} is the interpreter that runs
# Ferocal, {study} this directory.
[workload.catalogue]
command = ["{python}", "-c", """
import json, time
start = time.perf_counter()
bright = 0
for star in range(400_000):
    magnitude = (star * 7919) % 2000 / 100
    assert 0 <= magnitude < 20
    assert isinstance(magnitude, float)
    bright += magnitude < 6
print(json.dumps({"stars_per_s": 400_000 / (time.perf_counter() - start)}))
"""]
warmups = 1
timeout = "1 min"

[workload.catalogue.metric.rate]
role = "primary"                     # decides; "secondary" unless stated
unit = "stars/s"
better = "higher"
source = { json = "/stars_per_s" }   # a JSON Pointer into the output

[workload.catalogue.metric.peak-memory]
unit = "MiB"
better = "lower"
source = "peak-memory"               # or "wall-time", "cpu-time", { pattern = "score: ([0-9.]+)" }
'''


BY_HAND = """\
# A Ferocal study in which an operator does the switching and reads the numbers.
# `ferocal measure` guides through it in a terminal; after Ctrl-C the same command resumes.

[study]
question = "Does Halden 5 start the lobby kiosk faster than Halden 4?"
margin = "5 %"       # the smallest change that matters to you
rounds = 3           # a round visits every configuration once, in shuffled order
runs = 2             # runs of each workload per visit

# What is varied. `hold` says what the operator has to do.
[factor.system.level.halden-4]
hold = "Start the kiosk from the disk with Halden 4."
[factor.system.level.halden-5]
hold = "Start the kiosk from the disk with Halden 5."

[configuration]
baseline = { system = "halden-4" }

# What is done, and what is read: without `command` it is done by hand.
[workload.cold-start]
instructions = "Switch the kiosk on; stop the time when the first page is complete."

[workload.cold-start.metric.time]
unit = "s"
better = "lower"
read = "stopwatch"       # timed by key press; leave it out to type the number
plausible = [2, 300]     # what can be true
# resolution = 0.15      # of a hand on a key, in the unit

[workload.idle-memory]
instructions = "Wait for two minutes, then read the memory in use."

[workload.idle-memory.metric.memory]
unit = "MiB"
better = "lower"
"""


def write_template(directory: Path, text: str = TEMPLATE) -> Path:
    """Write a study file into a directory; returns its path. By default a commented one.

    Raises
    ------
    UsageError
        When there is a study file already.
    FerocalError
        When the file cannot be written.
    """
    path = directory / STUDY_FILE
    try:
        directory.mkdir(parents=True, exist_ok=True)
        file = path.open("x", encoding="utf-8")
    except FileExistsError:
        raise UsageError(f"{path} exists and was not changed; choose another directory") from None
    except OSError as error:
        raise FerocalError(f"{path}: cannot be written: {error.strerror}") from None
    try:
        with file:
            file.write(text)
    except OSError as error:
        path.unlink()  # half a study file would be in the way of the next attempt
        raise FerocalError(f"{path}: cannot be written: {error.strerror}") from None
    return path
