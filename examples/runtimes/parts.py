"""Four parts of what programs do, for any Python; prints JSON. Usage: parts.py PART."""

import json
import sys
import sysconfig


def start():
    """Do nothing: what is left is the start of the interpreter."""
    return 0


def arithmetic():
    """Whole numbers and the place of a planet on its orbit."""
    state, total, anomaly = 1, 0, 0.1
    for n in range(6000000):
        state = (state * 1664525 + 1013904223) & 0xFFFFFFFF
        total += state >> (n & 15)
        anomaly = anomaly * 0.999 + 0.0017
    return total + anomaly


def strings():
    """Lines of a catalogue, split, changed and joined."""
    lines = [f"NL {n:06d};{n * 7919 % 360};{n * 104729 % 180}" for n in range(20000)]
    total = 0
    for _ in range(10):
        cells = [line.split(";") for line in lines]
        lines = [";".join((name.lower().upper(), east, north)) for name, east, north in cells]
        total += len("\n".join(lines).replace("NL", "star"))
    return total


def memory():
    """A tree of objects that are all alive at once."""
    tree = [{"name": n, "next": [n, n + 1]} for n in range(300000)]
    return len(tree) + tree[-1]["name"]


if __name__ == "__main__":
    parts = {"start": start, "arithmetic": arithmetic, "strings": strings, "memory": memory}
    seen = {
        "version": "{} {}.{}.{}".format(sys.implementation.name, *sys.version_info[:3]),
        "build": "debug" if sysconfig.get_config_var("Py_DEBUG") else "plain",
        "result": parts[sys.argv[1]](),
    }
    print(json.dumps(seen))
