"""oast demo: a full worked example in a fresh folder, by running the real program step by step."""

from __future__ import annotations

import importlib
import json
import os
import re
import secrets
import shutil
import subprocess
import sys
import tempfile
import time
import traceback
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import IO

from rich.text import Text

from oast.cli import main
from oast.cli.command import CommandOptions, Subcommand, option
from oast.cli.exit_codes import DONE, FAILED, NO, REVERTED
from oast.cli.output import console
from oast.cli.scaffold import create_estate, new_folder
from oast.cli.simulator import Simulator
from oast.errors import OastError, StateError
from oast.estate import EncryptedFile
from oast.files import write_whole

SHIPPED = Path(__file__).parent / "larkwater"
SECRETS = ("login-password", "privilege-password")
ENCRYPTED = ("snmp-read", "snmp-billing")
# What the steps of the story need: imported once.
IMPORTED = (
    "push",
    "verify",
    "drift",
    "ask",
    "lint",
    "render",
    "explain",
    "devices",
    "sim",
    "onboard",
    "trust",
)
SEVENTH = Path(__file__).parent / "larkwater_seventh"
MANAGED_AT_MOST_S = 600.0
TERMINALS = (
    *("ask", "ospf-neighbors", "--on", "name=gull-core-1", "--columns", "device,interface,address,state"),
    *("--where", "state=full and not interface in (port1, port6, port7, port8)"),
)
# What the engineer adds for the seventh terminal: by file, in front of which line (none: at the end), and
# what.
ADDED: Mapping[str, tuple[str, str]] = {
    "oast.toml": (
        "",
        (
            '\n[onboarding]\nkeys = "../larkwater-onboarding"\nnames = ["localhost"]\ncall_home ='
            ' "127.0.0.1:0"\nmakers = ".oast/sim/manufacturer/devices.pem"\nvoucher_authorities ='
            ' ".oast/sim/manufacturer/vouchers.pem"\nvouchers = "../vouchers"\nfirst = ["first-boot",'
            ' "system", "interfaces"]\n'
        ),
    ),
    "intent.yaml": ("", "  - section: first-boot\n    on: site=knot\n"),
    "values/sites.yaml": (
        "",
        (
            "  - on: site=knot\n    values: {site_name: Knot pier, login: {secret: login-password},"
            " privilege: {secret: privilege-password}}\n"
        ),
    ),
    "values/devices/gull-core-1.yaml": (
        "",
        "  - {port: port11, address: 203.0.113.54/31, ipv6: '2001:db8:1::54/127'} # to knot-edge-1\n",
    ),
    "values/devices/heron-core-1.yaml": (
        "",
        "  - {port: port11, address: 203.0.113.60/31, ipv6: '2001:db8:1::60/127'} # to knot-edge-1\n",
    ),
    "inventory/devices.yaml": (
        "",
        "  - [gull-core-1 port11, knot-edge-1 port1]\n  - [heron-core-1 port11, knot-edge-1 port2]\n",
    ),
}


@dataclass(frozen=True, kw_only=True)
class DemoOptions(CommandOptions):
    """The options of `oast demo`."""

    into: Path | None = option(
        "--into",
        metavar="DIR",
        type=Path,
        help="new folder for the estate, kept afterwards (default: a temporary one)",
    )


def run(options: DemoOptions) -> int:
    folder = _folder(options.into)
    estate = folder / "larkwater"
    started = time.monotonic()
    try:
        # The secrets are kept beside the estate, outside of what is committed.
        create_estate(SHIPPED, estate, folder / "larkwater-secrets.toml", SECRETS)
        encrypted = EncryptedFile(estate / "secrets.jwe", folder / "larkwater.key", {})
        for name in ENCRYPTED:
            encrypted.put(name, secrets.token_urlsafe(12), date.today())
        for name in IMPORTED:
            importlib.import_module(f"oast.cli.{name}")
        _Story(estate).tell()
    except OastError as error:
        # What is there to look at is kept.
        raise StateError(error.message, hint=f"its estate and transcripts are in {estate}") from None
    except BaseException:
        _remove(folder, options)
        raise
    finally:
        Simulator(estate / "network.yaml", estate / ".oast" / "sim", os.environ).stop()
    _remove(folder, options)
    out = console()
    out.print(f"\nThat was the demo: {time.monotonic() - started:.0f} s.", style="bold")
    if options.into is None:
        out.print("Its folder is removed. To keep one: oast demo --into DIR")
    else:
        out.print(f"Its estate is in {estate}. Continue with: cd {estate} && oast sim start")
    return DONE


def _remove(folder: Path, options: DemoOptions) -> None:
    if options.into is None:
        shutil.rmtree(folder, ignore_errors=True)


def _folder(into: Path | None) -> Path:
    return Path(tempfile.mkdtemp(prefix="oast-demo-")) if into is None else new_folder(into)


def in_a_process(
    arguments: Sequence[str], folder: Path, environment: Mapping[str, str], output: IO[bytes] | None = None
) -> int:
    """The exit code of the program in a process of its own: a fork of this one, which has imported already
    what takes longest.

    What it puts out goes to `output`, where that is given.
    """
    sys.stdout.flush()
    sys.stderr.flush()
    number = os.fork()
    if not number:
        code: object = FAILED
        try:
            if output is not None:
                os.dup2(output.fileno(), 1)
                os.dup2(output.fileno(), 2)
            os.chdir(folder)
            os.environ.clear()
            os.environ.update(environment)
            sys.argv = ["oast", *arguments]
            code = main.main()
        except SystemExit as end:
            code = end.code
        except BaseException:
            traceback.print_exc()
        finally:
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(code if isinstance(code, int) else FAILED)
    while True:
        try:
            return os.waitstatus_to_exitcode(os.waitpid(number, 0)[1])
        except KeyboardInterrupt:
            # The child got the signal as well, and settles its devices before it ends.
            continue


class _Story:
    """The demo's texts and commands, in order. Each step runs the real program, in a process of its own."""

    def __init__(self, estate: Path) -> None:
        self._estate = estate
        self._out = console()
        # Secrets of the engineer's own estate must not reach the demo's devices.
        self._environment: Mapping[str, str] = {
            k: v for k, v in os.environ.items() if not k.startswith("OAST_SECRET_")
        }

    def tell(self) -> None:
        self._say(
            "Larkwater Ferries runs terminals around an estuary, with 24 routers and switches.",
            "Here they are simulated: real SSH servers on loopback. The estate that describes them is in",
            f"{self._estate}.",
        )
        self._run("sim", "start")
        self._say(
            "First, accept the host keys of the devices. A key that changes later is an error.",
        )
        self._run("devices", "trust", "--yes")
        self._run("devices", "--columns", "name,address,platform,site,role", "--on", "site in (gull, tern)")
        self._say(
            "The intended configuration from templates and values. --trace shows where each line comes from.",
        )
        self._run(
            "render", "--on", "name=tern-edge-1", "--section", "time", "--section", "access-lists", "--trace"
        )
        self._say(
            "The same topic on a switch that is configured with paths:",
        )
        self._run("render", "--on", "name=tern-access-1", "--section", "vlans", "--section", "time")
        self._say(
            "And on a router that speaks NETCONF: XML of the IETF's YANG modules.",
        )
        self._run("render", "--on", "name=gull-border-1", "--section", "system", "--section", "border-routes")
        self._say(
            "Where does a value come from, and are there mistakes anywhere in the estate?",
        )
        self._run("explain", "gull-core-1", "location")
        self._run("lint")
        self._say(
            "What would change? Equal changes are shown once; secrets are shown as fingerprints.",
        )
        self._run("diff", "--section", "time", "--section", "monitoring", expect=NO)
        self._say(
            "Deliver it in waves: one terminal, the other routers there, then all others.",
            "Each device rolls back by itself unless Oast confirms after all checks have passed.",
        )
        self._tell_deliveries()
        self._seventh_terminal()
        self._run("sim", "stop")

    def _tell_deliveries(self) -> None:
        """The second half: deliver, verify, remove a line, and the change that cuts management access."""
        self._run("push", "-m", "Bring the network under Oast", "--ticket", "LF-1041", "--yes", "--summary")
        self._say(
            "Verify the network: these checks are derived from the intent, or written in checks/.",
        )
        self._run("verify")
        self._say(
            "On the device itself: the path to a ticket gate and to the outside, and the state of the pair.",
        )
        self._type(
            "gull-dist-1", "trace 198.51.100.1", "trace 2001:db8:aaaa::1", "list bgp-neighbors", "list pair"
        )
        self._say(
            "Has anything changed on the devices without Oast, and do all policies hold?",
        )
        self._run("drift")
        self._say(
            "A second push changes nothing:",
        )
        self._run("push", "-m", "Once more", "--yes")
        self._say(
            "The billing system is gone: one line leaves the values, and a community leaves all devices.",
        )
        self._remove_line("values/network.yaml", "    - name: {secret: snmp-billing}\n")
        self._run("push", "-m", "Billing no longer reads SNMP", "--ticket", "LF-1057", "--yes")
        self._say(
            "Now the classic accident: a change that shuts the interface that Oast connects through.",
            "Oast cannot confirm it, so after 6 seconds the device rolls back by itself. Oast verifies it.",
        )
        cut = (
            "--on",
            "name=tern-edge-1",
            "--with",
            "management.enabled=false",
            "--revert-timer",
            "6",
            "--verify-timeout",
            "2",
        )
        self._run("push", "-m", "Tidy up unused ports", *cut, "--yes", expect=REVERTED)
        self._say(
            "Nothing is left of that change:",
        )
        self._run("diff")

    # --- provisioning of a new device

    def _seventh_terminal(self) -> None:
        self._say(
            "A new terminal gets a router with a certificate of its manufacturer; a voucher names its owner.",
            "Its configuration is prepared in the estate before it is plugged in.",
        )
        shutil.copytree(SEVENTH, self._estate, dirs_exist_ok=True)
        for file, (before, text) in ADDED.items():
            self._add(file, before, text)
        self._run("onboard", "keys")
        self._run(
            "sim",
            "manufacturer",
            "LW-7007",
            "--owner",
            "../larkwater-onboarding/owner.pem",
            "--into",
            "../vouchers",
        )
        self._run("onboard", "stage", "boxes.csv", "--yes")
        self._say(
            "The routers connected to gull-core-1 before that:",
        )
        self._run(*TERMINALS)
        self._run(
            "push",
            "-m",
            "Links to the Knot",
            "--on",
            "role=core",
            "--section",
            "interfaces",
            "--section",
            "routing",
            "--yes",
            "--summary",
        )
        with self._serving() as (server, home):
            self._say(
                "The router is plugged in, finds the bootstrap server, and gets its configuration:",
            )
            cables = ("--at", "gull-core-1:port11", "--at", "heron-core-1:port11")
            self._run("sim", "new-device", "add", "LW-7007", "--server", server, "--call-home", home, *cables)
            self._wait_until_managed()
        self._run("onboard", "status")
        self._say(
            "One more router, and the checks that follow from it:",
        )
        self._run(*TERMINALS)
        self._run("verify", "--wait", "20")

    @contextmanager
    def _serving(self) -> Iterator[tuple[str, str]]:
        """The bootstrap server in the background; where it is, and where it is called."""
        command = [sys.executable, "-m", "oast", "onboard", "serve", "--port", "0"]
        self._out.print(Text.assemble(("\n$ ", "dim"), ("oast onboard serve &", "bold cyan")))
        process = subprocess.Popen(
            command, cwd=self._estate, env=dict(self._environment), stdout=subprocess.PIPE, text=True
        )
        try:
            assert process.stdout is not None  # noqa: S101  # it was asked for
            places = []
            for line in (process.stdout.readline(), process.stdout.readline()):
                self._out.print(Text(line.strip(), style="dim"))
                match = re.search(r"([\w.]+:\d+)", line)
                places.append(match[1].replace("127.0.0.1", "localhost") if match is not None else "")
            if "" in places:
                raise StateError("the demo stopped: 'oast onboard serve' did not begin to listen")
            yield places[0], places[1]
        finally:
            process.terminate()
            told, _ = process.communicate()
            self._out.print(Text(told.strip(), style="dim"))

    def _wait_until_managed(self) -> None:
        deadline = time.monotonic() + MANAGED_AT_MOST_S
        while time.monotonic() < deadline:
            with tempfile.TemporaryFile() as output:
                in_a_process(
                    ("onboard", "status", "--format", "json"), self._estate, self._environment, output
                )
                output.seek(0)
                devices = json.load(output)["devices"]
            if all(box["state"] in ("managed", "failed") for box in devices):
                return
            time.sleep(1.0)

    def _add(self, file: str, before: str, text: str) -> None:
        """Lines that an engineer writes, in front of others or at the end."""
        path = self._estate / file
        there = path.read_text(encoding="utf-8")
        if before not in there:
            raise StateError(f"the demo stopped: {file} has no line '{before.strip()}'")
        write_whole(path, there.replace(before, text + before, 1) if before else there + text)
        self._out.print(
            Text(
                "".join(f"  + {line}\n" for line in text.strip().splitlines()) + f"    ({file})",
                style="green",
            )
        )

    def _say(self, *lines: str) -> None:
        self._out.print()
        for line in lines:
            self._out.print(Text(line, style="italic"))

    def _run(self, *arguments: str, expect: int = DONE) -> None:
        shown = " ".join(f'"{a}"' if " " in a else a for a in arguments)
        self._out.print(Text.assemble(("\n$ ", "dim"), (f"oast {shown}", "bold cyan")))
        sys.stdout.flush()
        code = in_a_process(arguments, self._estate, self._environment)
        if code != expect:
            raise StateError(
                f"the demo stopped: 'oast {shown}' ended with exit code {code} instead of {expect}"
            )
        if code not in (DONE, FAILED):
            self._out.print(Text(f"(exit code {code})", style="dim"))

    def _type(self, device: str, *lines: str) -> None:
        """Lines that an engineer types on a device's own command line."""
        self._out.print(Text.assemble(("\n$ ", "dim"), (f"oast sim console {device}", "bold cyan")))
        sys.stdout.flush()
        typed = "".join(f"{line}\n" for line in (*lines, "leave"))
        command = [sys.executable, "-m", "oast", "sim", "console", device]
        subprocess.run(
            command, cwd=self._estate, env=dict(self._environment), input=typed, text=True, check=True
        )
        self._out.print()

    def _remove_line(self, file: str, line: str) -> None:
        path = self._estate / file
        text = path.read_text(encoding="utf-8")
        if line not in text:
            raise StateError(f"the demo stopped: {file} has no line '{line.strip()}'")
        write_whole(path, text.replace(line, ""))
        self._out.print(Text(f"\n  - {line.strip()}    ({file})", style="red"))


COMMAND = Subcommand(
    DemoOptions,
    run,
    examples=(
        ("oast demo", "deliver to 24 simulated devices, and remove everything afterwards"),
        ("oast demo --into play", "keep the estate in the folder play"),
    ),
    exits=(0, 2, 4),
)
