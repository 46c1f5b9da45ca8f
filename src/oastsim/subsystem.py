"""The SSH side of a NETCONF session (RFC 6242, section 3): the subsystem, the path of the session, and its
faults."""

from __future__ import annotations

import asyncio

from oastsim.carried import Carried
from oastsim.device import SimulatedDevice
from oastsim.roundel.service import Service

NAME = "netconf"


class Subsystem(Carried[bytes]):
    """One session."""

    def __init__(self, device: SimulatedDevice, service: Service, address: str | None) -> None:
        super().__init__(device, address)
        self._service = service
        self._waiting: list[bytes] = []

    def subsystem_requested(self, subsystem: str) -> bool:
        return subsystem == NAME

    def shell_requested(self) -> bool:
        return False

    def session_started(self) -> None:
        greeting = self._service.greeting().decode("utf-8")
        self.begin(self.device.fault.greeted(greeting).encode("utf-8"))

    @property
    def over(self) -> bool:
        return self._service.closed

    def end(self) -> None:
        self._service.end()

    def work(self) -> bool:
        if self._service.closed or not (self.arrived or self._waiting):
            return False
        data, self.arrived = b"".join(self.arrived), []
        self._waiting += self._service.feed(data)
        if not self._waiting:
            return False
        self._one(self._waiting.pop(0))
        return True

    def _one(self, message: bytes) -> None:
        """One request, and what a fault makes of it."""
        fault, number = self.device.fault, self._service.requests + 1
        text = message.decode("utf-8", "replace")
        self.device.last_asked = asyncio.get_running_loop().time()
        effect = fault.on_line(number, text)
        if effect == "hang":
            self.flush()
            self.hanging = True
            return
        if effect == "half-open":
            self.half_open()
            return
        if effect == "drop" and self.channel is not None:
            self.channel.write(b"\n#40\n<?xml")
            self.channel.get_connection().abort()
            return
        if effect == "slow":
            self.pause(fault.seconds)
        reply = self._service.answer(message)
        if not reply:
            return
        for piece in fault.said(number, text, self._service.framed(reply).decode("utf-8")):
            self.to_send.append(
                piece if isinstance(piece, float) else piece.encode("utf-8", "surrogateescape")
            )
