"""Make and drop small objects, which Python serves from its own pools."""

import json
import time

OBJECTS = 3_000_000

if __name__ == "__main__":
    # About a second: long enough to average over a machine that changes its speed.
    start = time.perf_counter()
    shelf = [None] * 1000
    for number in range(OBJECTS):
        shelf[number % 1000] = (number, str(number))
    print(json.dumps({"objects_per_s": OBJECTS / (time.perf_counter() - start)}))
