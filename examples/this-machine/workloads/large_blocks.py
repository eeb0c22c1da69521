"""Allocate and drop buffers of 1 MB; or, with --check, tell what became of the pages.

An allocator that hands a dropped buffer back to the kernel pays for every page again:
256 minor page faults per buffer. One that keeps it pays almost nothing. The check counts
the faults, so it tells what the C library does, not what a variable says.
"""

import json
import resource
import sys
import time

SIZE = 1 << 20
BATCH = 16
PAGES = SIZE // resource.getpagesize()


def churn(batches):
    """Fill batches of buffers and drop them; minor page faults and seconds per buffer."""
    faults = resource.getrusage(resource.RUSAGE_SELF).ru_minflt
    start = time.perf_counter()
    for _ in range(batches):
        [b"\1" * SIZE for _ in range(BATCH)]
    seconds = time.perf_counter() - start
    faults = resource.getrusage(resource.RUSAGE_SELF).ru_minflt - faults
    return faults / (batches * BATCH), seconds / (batches * BATCH)


if __name__ == "__main__":
    churn(2)
    if "--check" in sys.argv:
        faults, _ = churn(20)
        # Between a tenth of the pages and nearly all of them, neither claim is proven.
        if faults <= PAGES / 10:
            print("kept")
        elif faults >= 0.9 * PAGES:
            print("handed back")
        else:
            print(f"unclear: {faults:.0f} faults per buffer of {PAGES} pages")
    else:
        faults, seconds = churn(30)
        print(json.dumps({"blocks_per_s": 1 / seconds, "faults_per_block": faults}))
