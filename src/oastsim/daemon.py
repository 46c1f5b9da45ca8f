"""The simulator as a background process: all devices of a network, and a control port for status, faults and stopping.

`listening.json` in the state folder says where everything listens, written when all devices are up; format 1:
process, control (host, port, token), devices (name to host and port). The control port takes one JSON line and answers one.
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
from pathlib import Path
from typing import Any

import asyncssh

from oastsim import faults
from oastsim.bine.device import Device as Bine
from oastsim.cowl.device import Device as Cowl
from oastsim.device import SimulatedDevice
from oastsim.network import NetworkError, NetworkPlan
from oastsim.ssh import LOOPBACK, serve
from oastsim.state import NetworkState

FORMAT = 1
SYSTEMS: Mapping[str, type[SimulatedDevice]] = {"bine": Bine, "cowl": Cowl}


class Simulation:
    """The running network."""

    def __init__(self, plan: NetworkPlan, folder: Path) -> None:
        self._plan = plan
        self._folder = folder
        self._state = NetworkState(plan, time.monotonic)
        self._devices: dict[str, SimulatedDevice] = {}
        self._servers: dict[str, asyncssh.SSHAcceptor] = {}
        self._token = secrets.token_hex(16)
        self._stopping = asyncio.Event()

    async def run(self) -> None:
        """Serve until told to stop, then put everything on disk."""
        for name in (signal.SIGTERM, signal.SIGINT):
            asyncio.get_running_loop().add_signal_handler(name, self._stopping.set)
        for plan in self._plan.devices:
            device = SYSTEMS[plan.system](plan, self._folder / "devices" / plan.name, self._state)
            device.start(self._plan.accounts, self._plan.privilege_password)
            self._devices[plan.name] = device
            self._servers[plan.name] = await serve(device)
        control = await asyncio.start_server(self._control, LOOPBACK, 0)
        listening = self._folder / "listening.json"
        try:
            self._announce(listening, control.sockets[0].getsockname()[1])
            await self._stopping.wait()
        finally:
            control.close()
            for server in self._servers.values():
                server.close()
            for device in self._devices.values():
                device.keep()
            # Last, because whoever stops the simulator waits for this.
            listening.unlink(missing_ok=True)

    def _announce(self, path: Path, control_port: int) -> None:
        where = {
            "format": FORMAT,
            "process": os.getpid(),
            "control": {"host": LOOPBACK, "port": control_port, "token": self._token},
            "devices": {name: {"host": LOOPBACK, "port": server.get_port()} for name, server in self._servers.items()},
        }
        temporary = path.with_suffix(".new")
        temporary.touch(mode=0o600)
        temporary.write_text(json.dumps(where, indent=1), encoding="utf-8")
        temporary.replace(path)

    async def _control(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(ConnectionError):
            answer: dict[str, Any]
            try:
                request = json.loads(await reader.readline())
                answer = self._answer(request)
            except (ValueError, TypeError, KeyError) as wrong:
                answer = {"error": str(wrong)}
            writer.write(json.dumps(answer).encode() + b"\n")
            await writer.drain()
            writer.close()

    def _answer(self, request: dict[str, Any]) -> dict[str, Any]:
        if not hmac.compare_digest(str(request.get("token")), self._token):
            return {"error": "the token is wrong"}
        if request["do"] == "status":
            return {"devices": {name: device.status() for name, device in self._devices.items()}}
        if request["do"] == "stop":
            self._stopping.set()
            return {"stopping": True}
        if request["do"] == "fault":
            return self._fault(request)
        return {"error": f"'{request['do']}' is not known"}

    def _fault(self, request: dict[str, Any]) -> dict[str, Any]:
        device = self._devices.get(request["device"])
        if device is None:
            return {"error": f"there is no device '{request['device']}'"}
        if request["kind"] == "none":
            device.fault = faults.Fault()
        elif request["kind"] in faults.KINDS:
            kind = faults.KINDS[request["kind"]]
            device.fault = kind(int(request.get("after", 0)), str(request.get("match", "")), float(request.get("seconds", 1.0)))
        else:
            return {"error": f"the kinds of fault are none, {', '.join(faults.KINDS)}"}
        return {"device": device.name, "fault": request["kind"]}


def run(plan: NetworkPlan, folder: Path) -> None:
    """Run the simulation in this process until it is stopped. Raises NetworkError for a first configuration that is refused."""
    try:
        asyncio.run(_run(plan, folder))
    except ValueError as wrong:
        raise NetworkError(str(wrong)) from None


async def _run(plan: NetworkPlan, folder: Path) -> None:
    await Simulation(plan, folder).run()
