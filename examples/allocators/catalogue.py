"""Build a catalogue of made-up stars, look things up in it and throw it away; print JSON."""

from __future__ import annotations

import json
import time

STARS = 60_000


def build() -> dict[str, dict[str, object]]:
    """A catalogue by name."""
    return {
        f"NL {n:06d}": {"magnitude": n % 97 / 7, "place": (n % 360, n % 180 - 90), "seen": [n]}
        for n in range(STARS)
    }


def main() -> None:
    """Build, search, and say how long it took."""
    start = time.perf_counter()
    found = 0
    for _ in range(2):
        catalogue = build()
        bright = sorted(name for name, star in catalogue.items() if star["magnitude"] < 2)  # type: ignore[operator]
        found += len(" ".join(bright).split())
    print(json.dumps({"seconds": time.perf_counter() - start, "found": found}))


if __name__ == "__main__":
    main()
