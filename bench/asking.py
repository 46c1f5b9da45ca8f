"""What asking costs: a listing of 10,000 lines as records, a reading of 1,000 devices, and all the checks
that follow from their intent."""

from __future__ import annotations

import asyncio
import os
import resource
import time
from collections.abc import Callable, Sequence

import asyncssh

from oast.estate.estate import Estate
from oast.operations.ask import ask_devices
from oast.operations.intent_context import prepare_intents
from oast.operations.verify import checks_for, verify_network
from oast.platforms.load import SHIPPED, load_platform
from oast.readings.records import records
from oast.records import Fingerprints

LINES = 10_000


def listing() -> str:
    """A table of interfaces, as a bine prints it."""
    head = (
        "interface  admin  oper  ipv4               ipv6  mtu   speed  in-octets  out-octets  in-errors "
        " out-errors\n"
    )
    rows = []
    for n in range(LINES):
        oper = "up" if n % 9 else "down"
        rows.append(
            f"{f'port{n}':11}up     {oper:6}{'-':19}-     9000  1000M  {n:<11}{n * 7:<12}0          0\n"
        )
    return head + "".join(rows)


def parsing() -> float:
    """The shortest time for it, in seconds."""
    reading = load_platform(SHIPPED / "bine.toml", Fingerprints(b"key")).readings["interfaces"]
    text, best = listing(), float("inf")
    for _ in range(9):
        began = time.perf_counter()
        if len(records(text, reading)) != LINES:
            raise AssertionError("not every line became a record")
        best = min(best, time.perf_counter() - began)
    return best


async def bare_listing(
    addresses: Sequence[tuple[str, int]], commands: Sequence[str], parallel: int, password: str
) -> None:
    """Connect, ask the same in a shell with the empty line behind each, disconnect."""
    places = asyncio.Semaphore(parallel)

    async def one(host: str, port: int) -> None:
        async with places:
            connection = await asyncssh.connect(
                host,
                port,
                username="oast",
                password=password,
                known_hosts=None,
                config=(),
                agent_path=None,
                client_keys=None,
            )
            async with (
                connection,
                connection.create_process(term_type="dumb", term_size=(500, 200)) as process,
            ):
                await process.stdout.readuntil("view| ")
                process.stdin.write("session page-length 0\n")
                await process.stdout.readuntil("view| ")
                for command in commands:
                    process.stdin.write(f"{command}\n\n")
                    await process.stdout.readuntil("view| ")
                    await process.stdout.readuntil("view| ")

    await asyncio.gather(*(one(host, port) for host, port in addresses))


async def asked(estate: Estate, parallel: int) -> None:
    """One reading of all devices, as records."""
    found = await ask_devices(estate, "interfaces", parallel=parallel)
    if found.failed or len(found.records) != len(estate.devices):
        raise AssertionError(f"{len(found.failed)} devices failed")


async def verified(estate: Estate, parallel: int) -> None:
    """The checks that follow from the intents."""
    prepared = prepare_intents(estate)
    found = await verify_network(prepared, checks_for(prepared, ()), parallel=parallel)
    if found.failed or len(found.every) < 50 * len(estate.devices):
        raise AssertionError(f"{len(found.failed)} devices failed, {len(found.every)} checks")


def peak_of(work: Callable[[], object]) -> float:
    """The most memory that the work takes, in MB, in a process of its own."""
    ours, theirs = os.pipe()
    process = os.fork()
    if not process:
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        work()
        os.write(
            theirs,
            f"{(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1e3} {before / 1e3}".encode(),
        )
        os._exit(0)
    os.close(theirs)
    with os.fdopen(ours) as told:
        grown, before_mb = map(float, told.read().split())
    os.waitpid(process, 0)
    return grown + before_mb
