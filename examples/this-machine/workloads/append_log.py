"""Append to a log in an SQLite database, with a commit for every entry.

With --check, open the database in the same way and read the journal mode back through a
second connection, from the file itself where it is kept there.
"""

import itertools
import json
import os
import sqlite3
import statistics
import sys
import tempfile
import time
from pathlib import Path

COMMITS = 250


def open_log(path):
    """A new log in the journal mode that the configuration asks for."""
    log = sqlite3.connect(path)
    log.execute(f"PRAGMA journal_mode = {os.environ['EXAMPLE_JOURNAL']}")
    log.execute("CREATE TABLE entry (at REAL, text TEXT)")
    log.commit()
    return log


if __name__ == "__main__":
    # Beside this file, so that the disk is that of the study and not one in memory.
    with tempfile.TemporaryDirectory(dir=Path(__file__).parent) as folder:
        path = Path(folder) / "log.sqlite"
        log = open_log(path)
        if "--check" in sys.argv:
            print(sqlite3.connect(path).execute("PRAGMA journal_mode").fetchone()[0])
        else:
            times = [time.perf_counter()]
            for number in range(COMMITS):
                log.execute("INSERT INTO entry VALUES (?, ?)", (number, "dome opened"))
                log.commit()
                times.append(time.perf_counter())
            # The median commit: a stall of a shared disk is not the journal's.
            seconds = statistics.median(b - a for a, b in itertools.pairwise(times))
            print(json.dumps({"commits_per_s": 1 / seconds}))
        log.close()
