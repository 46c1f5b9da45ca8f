"""oast sim: the simulated network of an estate, as a background process."""

from __future__ import annotations

import argparse
import os
import sys

from rich.text import Text

from oast.cli import arguments, sim_inventory, sim_new_device
from oast.cli.estate_option import asker, folder_of
from oast.cli.exit_codes import DONE, NO
from oast.cli.output import console, plural, print_json, print_table, table
from oast.cli.simulator import Simulator
from oast.errors import UsageError
from oast.estate import read_estate, read_settings as read_settings

FAULTS = (
    "none", "down", "hang", "drop", "forgotten", "slow", "refuse", "untrue", "full", "forgets", "busy",
    "log", "prompt", "long", "bytes", "halves", "banner", "restart", "key", "cut", "mend", "flap",
)  # fmt: skip


def add_arguments(parser: argparse.ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    start = actions.add_parser("start", help="start the devices of network.yaml")
    stop = actions.add_parser("stop", help="stop them; their configurations are kept")
    status = actions.add_parser("status", help="list them")
    arguments.add_format(status)
    fault = actions.add_parser("fault", help="make something go wrong with a device, or right again")
    fault.add_argument("device")
    fault.add_argument("kind", choices=FAULTS, help="none ends the fault there is")
    fault.add_argument(
        "--after",
        type=int,
        default=0,
        metavar="N",
        help="where it strikes at lines: after N lines of a session",
    )
    fault.add_argument(
        "--match", default="", metavar="TEXT", help="at lines that contain TEXT; cut, mend, flap: the port"
    )
    fault.add_argument(
        "--seconds", type=arguments.seconds, default=1.0, metavar="S", help="slow, halves, flap: how long"
    )
    fault.add_argument(
        "--seed",
        type=int,
        default=0,
        metavar="N",
        help="what is left to chance: the same for the same number",
    )
    sim_inventory.add_arguments(
        actions.add_parser(
            "inventory", help="a stand-in for an inventory service: start, stop, status, fault"
        )
    )
    sim_new_device.add_arguments(actions)
    opened = actions.add_parser("console", help="open a session with a device; Ctrl-] ends it")
    opened.add_argument("device")
    for action, run_action in (
        (start, _start),
        (stop, _stop),
        (status, _status),
        (fault, _fault),
        (opened, _console),
    ):
        arguments.add_estate(action)
        action.set_defaults(run=run_action)


def _simulator(options: argparse.Namespace) -> Simulator:
    """The simulator of the estate; it can be stopped whatever is wrong in the estate's other files."""
    folder = folder_of(options)
    return Simulator(read_settings(folder).network_file, folder / ".oast" / "sim", os.environ)


def _start(options: argparse.Namespace) -> int:
    number = _simulator(options).start()
    sys.stdout.write(f"{plural(number, 'device')} running\n")
    return DONE


def _stop(options: argparse.Namespace) -> int:
    stopped = _simulator(options).stop()
    sys.stdout.write("stopped; the configurations are kept\n" if stopped else "not running\n")
    return DONE


def _status(options: argparse.Namespace) -> int:
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


def _fault(options: argparse.Namespace) -> int:
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


def _console(options: argparse.Namespace) -> int:
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
