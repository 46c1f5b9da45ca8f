"""`make fuzz`: many odd inputs, and many hostile devices through the program. Arguments: inputs, sessions, seed."""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

import fuzzing
import hostile


def main(words: list[str]) -> int:
    inputs, sessions, seed = (int(word) for word in [*words, *("100000", "300", str(time.time_ns() % 1_000_000))[len(words) :]])
    started = time.monotonic()
    found = fuzzing.side_by_side(inputs, seed, os.cpu_count() or 1)
    print(f"{inputs} inputs with the seed {seed} in {time.monotonic() - started:.0f} s")
    started = time.monotonic()
    found += hostile.sessions(sessions, seed)
    print(f"{sessions} hostile devices with the same seed in {time.monotonic() - started:.0f} s")
    print("\n".join([*found, f"{len(found)} findings"]))
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
