"""The SSH side of a NETCONF session (RFC 6242, section 3): the subsystem, the path it comes in by, and what goes wrong with it."""

from __future__ import annotations

import asyncio

import asyncssh

from oastsim.device import SimulatedDevice
from oastsim.roundel.service import Service

NAME = "netconf"


class Subsystem(asyncssh.SSHServerSession[bytes]):
    """One session. While the device's management path is down, nothing comes in or goes out, as on a cut line."""

    def __init__(self, device: SimulatedDevice, service: Service) -> None:
        self._device = device
        self._service = service
        self._channel: asyncssh.SSHServerChannel[bytes] | None = None
        self._arrived: list[bytes] = []
        self._waiting: list[bytes] = []
        self._to_send: list[bytes | float] = []
        self._hanging = False
        self._busy = False

    def connection_made(self, chan: asyncssh.SSHServerChannel[bytes]) -> None:
        self._channel = chan

    def subsystem_requested(self, subsystem: str) -> bool:
        return subsystem == NAME

    def shell_requested(self) -> bool:
        return False

    def session_started(self) -> None:
        self._device.sessions.add(self._wake)
        greeting = self._service.greeting().decode("utf-8")
        self._to_send.append(self._device.fault.greeted(greeting).encode("utf-8"))
        self._wake()

    def data_received(self, data: bytes, datatype: object) -> None:
        self._arrived.append(data)
        self._wake()

    def eof_received(self) -> bool:
        self._wake()
        return False

    def connection_lost(self, exc: Exception | None) -> None:
        self._device.sessions.discard(self._wake)
        self._service.end()

    def _wake(self) -> None:
        """Work off what has arrived and send what is ready, unless the path is down."""
        if self._busy:
            return
        self._busy = True
        try:
            while (self._arrived or self._waiting) and not self._hanging and self._device.reachable and not self._service.closed:
                data, self._arrived = b"".join(self._arrived), []
                self._waiting += self._service.feed(data)
                if not self._waiting:
                    break
                self._one(self._waiting.pop(0))
        finally:
            self._busy = False
        self._flush()

    def _one(self, message: bytes) -> None:
        """One request, and what a fault makes of it."""
        fault, number = self._device.fault, self._service.requests + 1
        text = message.decode("utf-8", "replace")
        self._device.last_asked = asyncio.get_running_loop().time()
        effect = fault.on_line(number, text)
        if effect == "hang":
            self._flush()
            self._hanging = True
            return
        if effect == "drop" and self._channel is not None:
            self._channel.write(b"\n#40\n<?xml")
            self._channel.get_connection().abort()
            return
        if effect == "slow":
            self._hanging = True
            asyncio.get_running_loop().call_later(fault.seconds, self._resume)
        reply = self._service.answer(message)
        if not reply:
            return
        for piece in fault.said(number, text, self._service.framed(reply).decode("utf-8")):
            self._to_send.append(piece if isinstance(piece, float) else piece.encode("utf-8", "surrogateescape"))

    def _resume(self) -> None:
        self._hanging = False
        self._wake()

    def _flush(self) -> None:
        if self._channel is None or self._hanging or not self._device.reachable:
            return
        pieces, self._to_send = self._to_send, []
        for number, piece in enumerate(pieces):
            if isinstance(piece, float):
                self._to_send = pieces[number + 1 :]
                self._hanging = True
                asyncio.get_running_loop().call_later(piece, self._resume)
                return
            if not self._channel.is_closing():
                self._channel.write(piece)
        if self._service.closed and not self._channel.is_closing():
            self._channel.exit(0)
