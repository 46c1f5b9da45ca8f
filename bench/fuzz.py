"""`make fuzz`: odd inputs, and hostile sessions of three kinds: command lines, NETCONF and HTTP.

They take turns in portions, so that findings are printed as they come, and the number of tries is known when
the time is over.
    python bench/fuzz.py [--inputs N] [--sessions N] [--minutes M] [--seed N]
"""

from __future__ import annotations

import argparse
import os
import resource
import ssl
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

import fuzzing
import hostile
import hostile_http
from hostile_servers import HOSTILE_NETCONF, fleet
from test_bootstrap_limits import served_by_the_server
from test_hostile_fleet import QUICK, compared, wrong_in

INPUTS_EACH, CLI_EACH, NETCONF_EACH, HTTP_EACH = 5000, 20, len(HOSTILE_NETCONF), 40
HONEST = 5
MEMORY_AT_MOST = 300_000_000


def inputs(first: int, number: int) -> list[str]:
    """Try `number` odd inputs, in one process per processor."""
    return fuzzing.side_by_side(number, first, os.cpu_count() or 1)


def command_lines(first: int, number: int) -> list[str]:
    return hostile.sessions(number, first, together=number)


def netconf(first: int, number: int) -> list[str]:
    """Compare `number` hostile and some honest servers with the real program in a process of its own."""
    with (
        tempfile.TemporaryDirectory(prefix="oast-fuzz-") as folder,
        fleet(Path(folder), number + HONEST, number, 2, QUICK, "netconf", first) as found,
    ):
        code, document, memory = compared(found)
        wrong = wrong_in(found, document, memory)
        return wrong if code == 4 else [*wrong, f"exit code {code}"]


def http(first: int, number: int) -> list[str]:
    """Half of them services that a source reads, half clients of the bootstrap server."""
    services, clients = range(first, first + number // 2), range(first + number // 2, first + number)

    async def work(port: int, tls: ssl.SSLContext) -> list[str]:
        return [
            wrong
            for seed in clients
            if (wrong := await hostile_http.client_session(port, tls, seed)) is not None
        ]

    return [*hostile_http.source_sessions(services), *served_by_the_server(work)]


def portions(options: argparse.Namespace) -> Iterator[tuple[str, int, int, Callable[[int, int], list[str]]]]:
    """What is tried, a portion at a time: its kind, the first seed, how many, and how. The kinds
    take turns."""
    each = options.sessions // 3
    kinds = {
        "inputs": (options.inputs, INPUTS_EACH, inputs),
        "command lines": (options.sessions - 2 * each, CLI_EACH, command_lines),
        "NETCONF": (each, NETCONF_EACH, netconf),
        "HTTP": (each, HTTP_EACH, http),
    }
    left = {kind: number for kind, (number, _, _) in kinds.items()}
    while any(left.values()):
        for kind, (number, portion, how) in kinds.items():
            if left[kind]:
                now = min(portion, left[kind])
                yield kind, options.seed + number - left[kind], now, how
                left[kind] -= now


def main(words: list[str]) -> int:
    parser = argparse.ArgumentParser(description="Try odd inputs and hostile sessions.")
    parser.add_argument(
        "--inputs", type=int, default=100_000, metavar="N", help="odd inputs (default: 100000)"
    )
    parser.add_argument(
        "--sessions",
        type=int,
        default=1000,
        metavar="N",
        help="hostile sessions, a third of each kind (default: 1000)",
    )
    parser.add_argument(
        "--minutes",
        type=float,
        default=None,
        metavar="M",
        help="stop after M minutes and print the findings so far (default: no limit)",
    )
    parser.add_argument(
        "--seed",
        type=int,
        default=time.time_ns() % 1_000_000,
        metavar="N",
        help="the first seed (default: another each time)",
    )
    options = parser.parse_args(words)
    started = time.monotonic()
    tried: dict[str, int] = {}
    found: list[str] = []
    for kind, first, number, how in portions(options):
        if options.minutes is not None and time.monotonic() - started > options.minutes * 60:
            print("the time is over")
            break
        new = how(first, number)
        tried[kind] = tried.get(kind, 0) + number
        found += new
        print(
            "\n".join(
                [
                    *new,
                    (
                        f"{time.monotonic() - started:6.0f} s  {number} {kind} from seed {first}: {len(new)}"
                        " findings"
                    ),
                ]
            ),
            flush=True,
        )
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
    if memory > MEMORY_AT_MOST:
        found.append(f"{memory // 1_000_000} MB of memory")
    print(
        f"tried: {', '.join(f'{number} {kind}' for kind, number in tried.items())}; {memory // 1_000_000} MB;"
        f" {len(found)} findings"
    )
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
