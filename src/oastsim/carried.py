"""What a session's channel carries (RFC 4254): what arrives is worked off and what is ready is sent, while
the path is there and nothing is wrong with it."""

from __future__ import annotations

import asyncio
from abc import abstractmethod
from typing import Any, AnyStr, Generic

import asyncssh

from oastsim.device import SimulatedDevice

# So long a device bears a session of which it hears nothing because the path is gone (as RFC 9293, section
# 3.8.3 has it for TCP).
GIVEN_UP_S = 60.0


class Carried(Generic[AnyStr], asyncssh.SSHServerSession[AnyStr]):
    """One session. While the device's management path is down, nothing comes in or goes out, as on a cut
    line."""

    def __init__(self, device: SimulatedDevice, address: str | None) -> None:
        """`address` is the device's address through which the session came in."""
        self.device = device
        self.address = address
        self.channel: asyncssh.SSHServerChannel[AnyStr] | None = None
        self.arrived: list[AnyStr] = []
        self.to_send: list[AnyStr | float] = []
        self.hanging = False
        self._busy = False
        self._cut: asyncio.TimerHandle | None = None

    @abstractmethod
    def work(self) -> bool:
        """Work off what has arrived, as far as it goes; whether there may be more to do."""

    @property
    @abstractmethod
    def over(self) -> bool:
        """Whether the device has ended the session."""

    @abstractmethod
    def end(self) -> None:
        """The device lets go of the session."""

    def connection_made(self, chan: asyncssh.SSHServerChannel[AnyStr]) -> None:
        self.channel = chan

    def begin(self, greeting: AnyStr) -> None:
        """The session has begun."""
        self.device.sessions.add(self.wake)
        self.to_send.append(greeting)
        self.wake()

    def data_received(self, data: AnyStr, datatype: object) -> None:
        self.arrived.append(data)
        self.wake()

    def eof_received(self) -> bool:
        self.wake()
        return False

    def connection_lost(self, exc: Exception | None) -> None:
        self.device.sessions.discard(self.wake)
        if self._cut is not None:
            self._cut.cancel()
        self.end()

    def wake(self) -> None:
        """Work off what has arrived and send what is ready, unless the path is down."""
        if self._busy:
            return
        self._busy = True
        try:
            while not self.hanging and self._path() and self.work():
                pass
        finally:
            self._busy = False
        self.flush()

    def _path(self) -> bool:
        """Whether the path is there; without it nothing is heard of the connection either."""
        there = self.device.reachable_at(self.address)
        if there and self._cut is not None:
            self._cut.cancel()
            self._cut = None
            self._listen(is_heard=True)
        elif not there and self._cut is None and self.channel is not None:
            self._listen(is_heard=False)
            self._cut = asyncio.get_running_loop().call_later(GIVEN_UP_S, self.channel.get_connection().abort)
        return there

    def _listen(self, *, is_heard: bool) -> None:
        # asyncssh answers keep-alives by itself, whatever the session does; only its transport can be made
        # not to hear them.
        transport: Any = (
            getattr(self.channel.get_connection(), "_transport", None) if self.channel is not None else None
        )
        if transport is not None and not transport.is_closing():
            (transport.resume_reading if is_heard else transport.pause_reading)()

    def half_open(self) -> None:
        """The device has forgotten the session, and the other end is not told: nothing is heard or said any
        more."""
        self.flush()
        self.hanging = True
        self._listen(is_heard=False)
        self.device.sessions.discard(self.wake)
        self.end()

    def pause(self, seconds: float) -> None:
        """Nothing goes on for so long."""
        self.hanging = True
        asyncio.get_running_loop().call_later(seconds, self._resume)

    def _resume(self) -> None:
        self.hanging = False
        self.wake()

    def flush(self) -> None:
        """Send what is ready."""
        channel = self.channel
        if channel is None or self.hanging or not self._path():
            return
        pieces, self.to_send = self.to_send, []
        texts: list[AnyStr] = []
        for number, piece in enumerate(pieces):
            if isinstance(piece, float):
                self.to_send = pieces[number + 1 :]
                self.pause(piece)
                break
            texts.append(piece)
        if texts and not channel.is_closing():
            channel.write(texts[0][:0].join(texts))
        if not self.hanging and self.over and not channel.is_closing():
            channel.exit(0)
