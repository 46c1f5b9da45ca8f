"""The simulator as a background process: all devices of a network, and a control port for status, faults and
stopping.

`listening.json` in the state folder says where everything listens, written when all devices are up; format 1:
process, control (host, port, token), devices (name to host and port). The control port takes one JSON line
and answers one.
"""

from __future__ import annotations

import asyncio
import contextlib
import hmac
import json
import os
import secrets
import signal
import time
from collections.abc import Mapping
from functools import partial
from pathlib import Path
from typing import Any

import asyncssh

from oastsim import faults
from oastsim.bine.device import Device as Bine
from oastsim.cowl.device import Device as Cowl
from oastsim.device import SimulatedDevice
from oastsim.network import NAME, DevicePlan, NetworkError, NetworkPlan
from oastsim.roundel.device import Device as Roundel
from oastsim.ssh import LOOPBACK, call_home, host_key, serve
from oastsim.state import NetworkState

FORMAT = 1
# How soon an in-band session notices what others have done to its path, in seconds.
PATHS_S = 0.25
SYSTEMS: Mapping[str, type[SimulatedDevice]] = {"bine": Bine, "cowl": Cowl, "roundel": Roundel}


# Faults that happen once, and are not a lasting state.
BOXES = "boxes.json"
# The port of every management address, kept over a stop: {device: {address: port}}.
PORTS = "ports.json"
# Sessions come in there.
MANAGE = "manage0"
CALLS, CALL_EVERY_S = 30, 1.0
AT_ONCE = ("restart", "key", "cut", "mend", "flap")


class Simulation:
    """The running network."""

    def __init__(self, plan: NetworkPlan, folder: Path) -> None:
        self._plan = plan
        self._folder = folder
        self._state = NetworkState(plan, time.monotonic)
        self._devices: dict[str, SimulatedDevice] = {}
        # By device, then by its management address.
        self._servers: dict[str, dict[str, asyncssh.SSHAcceptor]] = {}
        self._ports: dict[str, dict[str, int]] = self._ports_before()
        self._is_announced = False
        self._listening: set[asyncio.Task[None]] = set()
        self._token = secrets.token_hex(16)
        self._stopping = asyncio.Event()
        self._flapping: dict[tuple[str, str], asyncio.TimerHandle] = {}
        self._control_port = 0
        self._calls: list[asyncio.Task[None]] = []

    async def run(self) -> None:
        """Serve until told to stop, then put everything on disk."""
        for name in (signal.SIGTERM, signal.SIGINT):
            asyncio.get_running_loop().add_signal_handler(name, self._stopping.set)
        for plan in self._plan.devices:
            device = SYSTEMS[plan.system](plan, self._folder / "devices" / plan.name, self._state)
            device.start(self._plan.accounts, self._plan.privilege_password)
            self._devices[plan.name] = device
            await self._serve(device)
        for request in self._boxes():
            await self._plug_in(request)
        control = await asyncio.start_server(self._control, LOOPBACK, 0)
        self._control_port = control.sockets[0].getsockname()[1]
        listening = self._folder / "listening.json"
        in_band = (
            asyncio.create_task(self._watch_paths())
            if any(plan.station is not None for plan in self._plan.devices)
            else None
        )
        try:
            self._is_announced = True
            self._announce()
            await self._stopping.wait()
        finally:
            if in_band is not None:
                in_band.cancel()
            control.close()
            for call in self._calls:
                call.cancel()
            for servers in self._servers.values():
                for server in servers.values():
                    server.close()
            for device in self._devices.values():
                device.keep()
            # Last, because the program that stops the simulator waits for this.
            listening.unlink(missing_ok=True)

    async def _watch_paths(self) -> None:
        """In-band sessions stall, or continue, with what others do to their path."""
        devices = [self._devices[plan.name] for plan in self._plan.devices if plan.station is not None]
        while True:
            await asyncio.sleep(PATHS_S)
            for device in devices:
                for wake in list(device.sessions):
                    wake()

    def _announce(self) -> None:
        path = self._folder / "listening.json"
        where = {
            "format": FORMAT,
            "process": os.getpid(),
            "control": {"host": LOOPBACK, "port": self._control_port, "token": self._token},
            "devices": {
                name: {"host": LOOPBACK, "port": next(iter(ports.values())), "addresses": ports}
                for name in self._servers
                if (ports := self._ports[name])
            },
        }
        for file, data in ((self._folder / PORTS, self._ports), (path, where)):
            temporary = file.with_suffix(".new")
            temporary.touch(mode=0o600)
            temporary.write_text(json.dumps(data, indent=1), encoding="utf-8")
            temporary.replace(file)

    # --- where devices listen

    def _ports_before(self) -> dict[str, dict[str, int]]:
        """The ports of the last time: a tool that was connected when the simulator was killed finds its
        devices again."""
        with contextlib.suppress(OSError, ValueError, AttributeError, TypeError):
            data = json.loads((self._folder / PORTS).read_text(encoding="utf-8"))
            return {
                str(name): {str(a): int(port) for a, port in ports.items()} for name, ports in data.items()
            }
        return {}

    async def _serve(self, device: SimulatedDevice) -> None:
        """Listen at every management address of a device, now and whenever it is configured with another."""
        await self._listen(device)
        device.on_addresses = partial(self._listen_soon, device)

    def _listen_soon(self, device: SimulatedDevice) -> None:
        if set(device.management_addresses) <= self._servers[device.name].keys():
            return
        task = asyncio.get_running_loop().create_task(self._listen(device))
        self._listening.add(task)
        task.add_done_callback(self._listening.discard)

    async def _listen(self, device: SimulatedDevice) -> None:
        servers = self._servers.setdefault(device.name, {})
        before = self._ports.setdefault(device.name, {})
        for address in device.management_addresses:
            if address not in servers:
                try:
                    server = await serve(device, address, before.get(address, 0))
                except OSError:  # another process has taken the port
                    server = await serve(device, address)
                servers[address] = server
        self._ports[device.name] = {address: server.get_port() for address, server in servers.items()}
        if self._is_announced:
            self._announce()

    async def _control(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(ConnectionError):
            answer: dict[str, Any]
            try:
                request = json.loads(await reader.readline())
                answer = await self._answer(request)
            except (ValueError, TypeError, KeyError) as wrong:
                answer = {"error": str(wrong)}
            writer.write(json.dumps(answer).encode() + b"\n")
            await writer.drain()
            writer.close()

    async def _answer(self, request: dict[str, Any]) -> dict[str, Any]:
        if not hmac.compare_digest(str(request.get("token")), self._token):
            return {"error": "the token is wrong"}
        if request["do"] == "status":
            return {"devices": {name: device.status() for name, device in self._devices.items()}}
        if request["do"] == "stop":
            self._stopping.set()
            return {"stopping": True}
        if request["do"] == "fault":
            return await self._fault(request)
        if request["do"] == "add":
            return await self._add(request)
        return {"error": f"'{request['do']}' is not known"}

    # --- boxes that were plugged in while the network runs

    def _boxes(self) -> list[dict[str, Any]]:
        """Those of the times before."""
        with contextlib.suppress(OSError, ValueError):
            found: list[dict[str, Any]] = json.loads((self._folder / BOXES).read_text(encoding="utf-8"))
            return found
        return []

    async def _add(self, request: dict[str, Any]) -> dict[str, Any]:
        """A box that has its first configuration becomes a device of the network, and calls home if it knows
        where that is."""
        kept = {name: value for name, value in request.items() if name not in ("do", "token", "call_home")}
        device = await self._plug_in(kept)
        path = self._folder / BOXES
        boxes = [*self._boxes(), kept]
        path.touch(mode=0o600)
        path.write_text(json.dumps(boxes), encoding="utf-8")
        self._announce()
        if request.get("call_home"):
            host, port = request["call_home"]
            self._calls.append(asyncio.create_task(self._call_home(device, str(host), int(port))))
        return {"device": device.name}

    async def _plug_in(self, box: dict[str, Any]) -> SimulatedDevice:
        """Its name and its address are what its first configuration says. Raises ValueError."""
        ports = frozenset(box["ports"])
        text, facts = SYSTEMS[box["system"]].first(str(box["startup"]), ports)
        name, manage = facts.hostname, facts.interfaces.get(MANAGE)
        if manage is None or not manage.ipv4:
            raise ValueError(f"its first configuration has no address for {MANAGE}")
        if not NAME.fullmatch(name):
            raise ValueError(f"'{name[:80]}' is not a device's name")
        if name in self._devices:
            raise ValueError(f"there is a device '{name}' already")
        plan = DevicePlan(
            name, box["system"], ports, frozenset(), str(manage.ipv4[0].ip), text, serial=box.get("serial")
        )
        cables = [
            ((name, str(port)), (str(far), str(far_port))) for port, far, far_port in box.get("cables", ())
        ]
        folder = self._folder / "devices" / name
        self._state.add(plan, cables)
        if not (folder / "host_key").exists():
            folder.mkdir(parents=True, exist_ok=True)
            (folder / "host_key").touch(mode=0o600)
            (folder / "host_key").write_text(str(box["host_key"]), encoding="utf-8")
        device = SYSTEMS[plan.system](plan, folder, self._state)
        # Who may come in stands in its configuration.
        device.start((), self._plan.privilege_password)
        self._devices[name] = device
        await self._serve(device)
        return device

    async def _call_home(self, device: SimulatedDevice, host: str, port: int) -> None:
        """Call until there is an answer (RFC 8071, section 3.1)."""
        for _ in range(CALLS):
            try:
                await call_home(device, host, port)
                return
            except (OSError, asyncssh.Error):
                await asyncio.sleep(CALL_EVERY_S)

    def _other_key(self, device: SimulatedDevice) -> None:
        """The device shows another host key from now on, at the same place."""
        (device.folder / "host_key").unlink()
        # The ports stay open: another process could take one that is closed for a moment.
        for server in self._servers[device.name].values():
            server.update(server_host_keys=[host_key(device.folder)])

    def _cable(self, device: SimulatedDevice, port: str, kind: str, seconds: float) -> dict[str, Any]:
        """Cut the cable in a port, mend it, or let it come and go until it is mended."""
        other = self._state.link(device.name, port)
        if other is None:
            return {"error": f"there is no cable in '{port}' of {device.name}: name the port with --match"}
        # A cable has two ends, and may be mended at either.
        flapping = self._flapping.pop((device.name, port), None) or self._flapping.pop(other, None)
        if flapping is not None:
            flapping.cancel()
        self._state.cut(device.name, port, is_cut=kind != "mend")
        if kind == "flap":
            self._flap(device.name, port, seconds, is_cut=True)
        for one in self._devices.values():
            for wake in list(one.sessions):
                wake()
        return {"device": device.name, "fault": kind}

    def _flap(self, device: str, port: str, seconds: float, *, is_cut: bool) -> None:
        self._state.cut(device, port, is_cut=is_cut)
        again = partial(self._flap, device, port, seconds, is_cut=not is_cut)
        self._flapping[device, port] = asyncio.get_running_loop().call_later(seconds, again)

    async def _fault(self, request: dict[str, Any]) -> dict[str, Any]:
        device = self._devices.get(request["device"])
        if device is None:
            return {"error": f"there is no device '{request['device']}'"}
        if request["kind"] == "none":
            device.fault = faults.Fault()
        elif request["kind"] in faults.KINDS:
            kind = faults.KINDS[request["kind"]]
            after, match, seconds = (
                int(request.get("after", 0)),
                str(request.get("match", "")),
                float(request.get("seconds", 1.0)),
            )
            device.fault = kind(after, match, seconds, int(request.get("seed", 0)))
        elif request["kind"] == "restart":
            device.restart()
        elif request["kind"] == "key":
            self._other_key(device)
        elif request["kind"] in ("cut", "mend", "flap"):
            return self._cable(
                device, str(request.get("match", "")), request["kind"], float(request.get("seconds", 1.0))
            )
        else:
            return {"error": f"the kinds of fault are none, {', '.join((*faults.KINDS, *AT_ONCE))}"}
        return {"device": device.name, "fault": request["kind"]}


def run(plan: NetworkPlan, folder: Path) -> None:
    """Run the simulation in this process until it is stopped. Raises NetworkError for a first configuration
    that is refused."""
    try:
        asyncio.run(_run(plan, folder))
    except ValueError as wrong:
        raise NetworkError(str(wrong)) from None


async def _run(plan: NetworkPlan, folder: Path) -> None:
    await Simulation(plan, folder).run()
