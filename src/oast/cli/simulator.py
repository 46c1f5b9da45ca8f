"""The simulator as a process of its own: started, asked and stopped from outside; nothing of it
is imported."""

from __future__ import annotations

import json
import os
import socket
import subprocess
import sys
import time
from collections.abc import Mapping
from pathlib import Path
from typing import IO, Any

from oast.errors import EstateError, StateError
from oast.extras import require_extra
from oast.files import make_private
from oast.records import Place

START_AT_MOST_S = 120.0
ANSWER_AT_MOST_S = 20.0


class Simulator:
    """The simulated network of one estate: `network` is its network.yaml, `folder` keeps its state."""

    def __init__(self, network: Path, folder: Path, environment: Mapping[str, str]) -> None:
        self._network = network
        self._folder = folder
        self._environment = environment

    def _listening(self) -> dict[str, Any] | None:
        try:
            data: dict[str, Any] = json.loads((self._folder / "listening.json").read_text(encoding="utf-8"))
            os.kill(int(data["process"]), 0)
        except (OSError, ValueError, KeyError, TypeError):
            return None
        return data

    @property
    def running(self) -> bool:
        """Whether its process lives and all its devices are up."""
        return self._listening() is not None

    def start(self) -> int:
        """Start it in the background and wait until every device listens. Returns how many there are.

        Raises StateError when it runs already or does not come up, EstateError for a wrong network.yaml.
        """
        if self.running:
            raise StateError("the simulated network is running already", hint="stop it with: oast sim stop")
        if not self._network.is_file():
            raise EstateError(
                "the estate has no simulated network",
                place=Place(str(self._network)),
                hint="write network.yaml",
            )
        require_extra("sim", "the simulator")
        make_private(self._folder)
        (self._folder / "listening.json").unlink(missing_ok=True)
        log = self._folder / "simulator.log"
        log.touch(mode=0o600)
        with log.open("wb") as out:
            process = self._launch(out)
        deadline = time.monotonic() + START_AT_MOST_S
        while time.monotonic() < deadline:
            listening = self._listening()
            if listening is not None:
                # The process outlives this one, which does not wait for it.
                process.returncode = 0
                return len(listening["devices"])
            if process.poll() is not None:
                message = log.read_text(encoding="utf-8", errors="replace").strip().splitlines()
                raise EstateError(
                    message[-1] if message else "the simulator exited at once", hint=f"see its log: {log}"
                )
            time.sleep(0.02)
        process.kill()
        process.wait()
        raise StateError(
            f"the simulator did not start within {START_AT_MOST_S:g} s", hint=f"see its log: {log}"
        )

    def _launch(self, log: IO[bytes]) -> subprocess.Popen[bytes]:
        return subprocess.Popen(
            [sys.executable, "-m", "oastsim", str(self._network), str(self._folder)],
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            start_new_session=True,
            env=dict(self._environment),
        )

    def stop(self) -> bool:
        """Stop it and wait until it has put everything on disk. False when it was not running."""
        listening = self._listening()
        if listening is None:
            return False
        self.ask({"do": "stop"})
        deadline = time.monotonic() + ANSWER_AT_MOST_S
        # It removes the file when everything is on disk. Its process may live a moment longer; if its parent
        # does not collect it, it still looks alive.
        while (self._folder / "listening.json").exists():
            if time.monotonic() > deadline:
                raise StateError(f"the simulator (process {listening['process']}) does not stop")
            time.sleep(0.02)
        return True

    def ask(self, request: Mapping[str, Any]) -> dict[str, Any]:
        """One request to its control port. Raises StateError when it does not run or says no."""
        listening = self._listening()
        if listening is None:
            raise StateError("the simulated network is not running", hint="start it with: oast sim start")
        control = listening["control"]
        try:
            with socket.create_connection(
                (control["host"], control["port"]), timeout=ANSWER_AT_MOST_S
            ) as connection:
                connection.sendall(json.dumps({**request, "token": control["token"]}).encode() + b"\n")
                with connection.makefile("rb") as answer:
                    line = answer.readline()
            content: dict[str, Any] = json.loads(line) if line else {}
        except (OSError, ValueError) as error:
            raise StateError(f"the simulator does not answer: {error}") from None
        # A process that is asked to stop may be gone before it has answered.
        if not line and request["do"] != "stop":
            message = "the simulator ended the connection without an answer"
            raise StateError(message, hint=f"see its log {self._folder / 'simulator.log'}")
        if "error" in content:
            raise StateError(f"the simulator refused: {content['error']}")
        return content
