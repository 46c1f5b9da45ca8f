"""The program for shell scripts without starting an interpreter that imports all of it: `oast` is a small client of a server that forks.

`install` writes the client into a folder for PATH. What the program reads and writes, its folder, its environment and its exit
code are those of a process of its own.
"""

from __future__ import annotations

import array
import json
import os
import signal
import socket
import sys
from pathlib import Path

import forked

CLIENT = """#!{python} -IS
import array, json, os, socket, sys
server = socket.socket(socket.AF_UNIX)
server.connect({path!r})
asked = json.dumps([sys.argv[1:], os.getcwd(), dict(os.environ)]).encode()
server.sendmsg([len(asked).to_bytes(4, "big")], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", (0, 1, 2)))])
server.sendall(asked)
told = server.recv(1)
os._exit(told[0] if told else 1)
"""


def install(folder: Path) -> int:
    """Write `oast` into `folder` and start its server; the server's process, which ends when it is killed."""
    folder.mkdir(exist_ok=True)
    # The path of a socket is short: folders of tests may not be.
    path = f"\0oast-{os.getpid()}-{folder.stat().st_ino}"
    client = folder / "oast"
    client.write_text(CLIENT.format(python=sys.executable, path=path))
    client.chmod(0o755)
    listening = socket.socket(socket.AF_UNIX)
    listening.bind(path)
    listening.listen()
    number = os.fork()
    if not number:
        _serve(listening)
    listening.close()
    return number


def _serve(listening: socket.socket) -> None:
    try:
        while True:
            client, _ = listening.accept()
            if not os.fork():
                listening.close()
                _one(client)
            client.close()
            while os.waitpid(-1, os.WNOHANG)[0]:
                pass
    except ChildProcessError:
        _serve(listening)
    finally:
        os._exit(1)


def _one(client: socket.socket) -> None:
    code = 1
    try:
        head, ancillary, *_ = client.recvmsg(4, socket.CMSG_SPACE(3 * array.array("i").itemsize))
        pipes = array.array("i", ancillary[0][2])
        asked = b""
        while len(asked) < int.from_bytes(head, "big"):
            asked += client.recv(65536)
        arguments, folder, environment = json.loads(asked)
        number = os.fork()
        if not number:
            forked.become_program(arguments, pipes, folder, environment)
        _, status = os.waitpid(number, 0)
        ended = os.waitstatus_to_exitcode(status)
        code = ended if ended >= 0 else 128 - ended
    finally:
        client.send(bytes([code & 255]))
        os._exit(0)


def stop(number: int) -> None:
    """End the server of `install`."""
    os.kill(number, signal.SIGKILL)
    os.waitpid(number, 0)
