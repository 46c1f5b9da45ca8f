"""An engineer's own session with a simulated device: what is typed goes there, what it says comes here."""

from __future__ import annotations

import asyncio
import os
import sys
import termios
import tty

from oast.connect import Login, Target, Transport, connect
from oast.errors import ConnectionFailed

_END = b"\x1d"  # Ctrl-]


async def converse(target: Target, login: Login, timeout_s: float) -> None:
    """Connect standard input and output with a shell on the device until it ends, input ends, or Ctrl-] is
    typed."""
    transport = await connect(target, login, timeout_s)
    before = termios.tcgetattr(sys.stdin) if sys.stdin.isatty() else None
    try:
        if before is not None:
            tty.setraw(sys.stdin)
        typing = asyncio.create_task(_type(transport))
        try:
            while text := await transport.read():
                sys.stdout.write(text if before is not None else text.replace("\r\n", "\n"))
                sys.stdout.flush()
        finally:
            typing.cancel()
            await asyncio.gather(typing, return_exceptions=True)
    finally:
        if before is not None:
            termios.tcsetattr(sys.stdin, termios.TCSADRAIN, before)
        await transport.close()


async def _type(transport: Transport[str]) -> None:
    loop = asyncio.get_running_loop()
    arrived: asyncio.Queue[bytes] = asyncio.Queue()
    number = sys.stdin.fileno()
    try:
        loop.add_reader(number, lambda: arrived.put_nowait(os.read(number, 4096)))
    except PermissionError:
        # A plain file cannot be waited for; it is there as a whole.
        arrived.put_nowait(sys.stdin.buffer.read())
        arrived.put_nowait(b"")
    try:
        while True:
            data = await arrived.get()
            if not data or _END in data:
                if _END in data:
                    await transport.close()
                else:
                    transport.end_input()
                return
            transport.write(data.decode(errors="replace"))
    except ConnectionFailed:
        return
    finally:
        loop.remove_reader(number)
