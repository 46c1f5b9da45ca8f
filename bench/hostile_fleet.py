"""Two thousand devices on real servers in several processes, three hundred of them hostile. Arguments:
devices, hostile ones."""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from hostile_servers import fleet
from test_hostile_fleet import compared, wrong_in

PROCESSES = 4


def main(words: list[str]) -> int:
    number, hostile = (int(word) for word in [*words, *("2000", "300")[len(words) :]])
    with (
        tempfile.TemporaryDirectory(prefix="oast-bench-") as folder,
        fleet(Path(folder), number, hostile, PROCESSES) as found,
    ):
        started = time.monotonic()
        code, document, memory = compared(found)
        took = time.monotonic() - started
        wrong = wrong_in(found, document, memory)
        named = len(document["devices"]) + len(document["failed"])  # type: ignore[arg-type]
        print(
            f"{named} of {number} devices named in {took:.0f} s, {memory // 1_000_000} MB of memory, exit"
            f" code {code}"
        )
    print("\n".join([*wrong, f"{len(wrong)} findings"]))
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
