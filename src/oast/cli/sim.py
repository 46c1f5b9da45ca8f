"""oast sim: the simulated network of an estate, as a background process."""

from __future__ import annotations

import os
import sys
from dataclasses import dataclass

from rich.text import Text

from oast.cli import sim_inventory, sim_new_device
from oast.cli.command import CommandGroup, Subcommand, argument, option, seconds
from oast.cli.estate_option import asker, folder_of
from oast.cli.exit_codes import DONE, NO
from oast.cli.output import console, plural, print_json, print_table, table
from oast.cli.shared_options import EstateOptions, FormatOptions
from oast.cli.simulator import Simulator
from oast.errors import UsageError
from oast.estate import read_estate, read_settings as read_settings

FAULTS = (
    "none", "down", "hang", "drop", "forgotten", "slow", "refuse", "untrue", "full", "forgets", "busy",
    "log", "prompt", "long", "bytes", "halves", "banner", "restart", "key", "cut", "mend", "flap",
)  # fmt: skip


@dataclass(frozen=True, kw_only=True)
class SimStatusOptions(FormatOptions, EstateOptions):
    """The options of `oast sim status`."""


@dataclass(frozen=True, kw_only=True)
class SimFaultOptions(EstateOptions):
    """The options of `oast sim fault`."""

    device: str = argument("DEVICE", help="name of the device")
    kind: str = argument("FAULT", choices=FAULTS, help=f"{', '.join(FAULTS)}; none ends the current fault")
    after: int = option(
        "--after",
        type=int,
        default=0,
        metavar="N",
        help="faults at a line: number of lines before it (default: 0)",
    )
    match: str = option(
        "--match",
        default="",
        metavar="TEXT",
        help="faults at a line: lines with TEXT; cut, mend, flap: the port",
    )
    seconds: float = option(
        "--seconds",
        type=seconds,
        default=1.0,
        metavar="S",
        help="slow, halves, flap: duration in seconds (default: 1)",
    )
    seed: int = option(
        "--seed", type=int, default=0, metavar="N", help="seed of the random numbers (default: 0)"
    )


@dataclass(frozen=True, kw_only=True)
class SimConsoleOptions(EstateOptions):
    """The options of `oast sim console`."""

    device: str = argument("DEVICE", help="name of the device")


def _simulator(options: EstateOptions) -> Simulator:
    """The simulator of the estate; it can be stopped whatever is wrong in the estate's other files."""
    folder = folder_of(options)
    return Simulator(read_settings(folder).network_file, folder / ".oast" / "sim", os.environ)


def _start(options: EstateOptions) -> int:
    number = _simulator(options).start()
    sys.stdout.write(f"{plural(number, 'device')} running\n")
    return DONE


def _stop(options: EstateOptions) -> int:
    stopped = _simulator(options).stop()
    sys.stdout.write("stopped; the configurations are kept\n" if stopped else "not running\n")
    return DONE


def _status(options: SimStatusOptions) -> int:
    simulator = _simulator(options)
    if not simulator.running:
        if options.format == "json":
            print_json("sim-status", 1, {"running": False, "devices": {}})
        else:
            sys.stdout.write("not running\n")
        return NO
    devices = simulator.ask({"do": "status"})["devices"]
    if options.format == "json":
        print_json("sim-status", 1, {"running": True, "devices": devices})
        return DONE
    listing = table(
        "device",
        "system",
        "hostname",
        "management",
        "reachable",
        "timer",
        "fault",
        "sessions",
        numbers=("sessions",),
    )
    for name, d in devices.items():
        reachable = Text("yes", style="green") if d["reachable"] else Text("no", style="red")
        timer = f"{d['timer']} s" if d["timer"] else "-"
        listing.add_row(
            name,
            d["system"],
            d["hostname"],
            d["management"],
            reachable,
            timer,
            d["fault"] or "-",
            str(d["sessions"]),
        )
    print_table(console(), listing)
    return DONE


def _fault(options: SimFaultOptions) -> int:
    request = {
        "do": "fault",
        "device": options.device,
        "kind": options.kind,
        "after": options.after,
        "match": options.match,
        "seconds": options.seconds,
        "seed": options.seed,
    }
    _simulator(options).ask(request)
    sys.stdout.write(f"{options.device}: fault {options.kind}\n")
    return DONE


def _console(options: SimConsoleOptions) -> int:
    # Only here is SSH needed, and it takes long to import.
    from oast.cli.async_runner import run_async as run_to_end
    from oast.cli.console import converse
    from oast.connect import Connector

    estate, _ = read_estate(folder_of(options), os.environ, ask=asker())
    device = estate.device(options.device)
    settings = estate.settings.connection
    if not settings.simulated:
        raise UsageError(
            "this estate's devices are not simulated",
            hint="set simulated = true below [connection] in oast.toml",
        )
    connector = Connector(estate, [device])
    if sys.stdin.isatty():
        sys.stderr.write(f"{device.name}: Ctrl-] ends the session\n")
    run_to_end(converse(connector.console(device), *connector.login(device)))
    return DONE


COMMAND = CommandGroup(
    {
        "start": Subcommand(EstateOptions, _start, "start the devices of network.yaml", exits=(0, 2, 3, 4)),
        "stop": Subcommand(EstateOptions, _stop, "stop the devices; their configurations are kept"),
        "status": Subcommand(
            SimStatusOptions, _status, "list the simulated devices", exits=(0, 1, 2, 3), no="they do not run"
        ),
        "fault": Subcommand(
            SimFaultOptions,
            _fault,
            "cause a fault on a device, or end it",
            (
                ("oast sim fault tern-edge-1 down", "switch a device off"),
                ("oast sim fault tern-edge-1 none", "end the fault"),
            ),
            exits=(0, 1, 2, 3, 4),
            no="the fault could not be caused",
        ),
        "console": Subcommand(
            SimConsoleOptions,
            _console,
            "open a session with a device; Ctrl-] ends it",
            (("oast sim console gull-core-1", "type commands on a device"),),
            exits=(0, 1, 2, 3, 4),
            no="the session ended with an error",
        ),
        "inventory": sim_inventory.COMMAND,
        **sim_new_device.COMMANDS,
    }
)
