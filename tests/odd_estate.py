"""An estate with odd devices behind the program, without a network."""

from __future__ import annotations

import asyncio
from pathlib import Path

from in_memory import run_program
from oast.connect.transport import Login, Target
from odd_devices import PASSWORD, Device


class Line:
    """A transport to a device."""

    addresses = ("", "")

    def __init__(self, device: Device) -> None:
        self._device = device
        self._said: asyncio.Queue[str] = asyncio.Queue()
        self._said.put_nowait(device.greeting().replace("\n", "\r\n"))

    async def read(self) -> str:
        return await self._said.get()

    def write(self, text: str) -> None:
        for line in text.removesuffix("\n").split("\n"):
            self._said.put_nowait(f"{line}\n{self._device.respond(line.strip())}".replace("\n", "\r\n"))

    def end_input(self) -> None:
        return

    async def close(self) -> None:
        return


class Estate:
    """An estate with such devices, and the program run on it."""

    def __init__(
        self, folder: Path, devices: dict[str, Device], templates: dict[str, str], sections: str = "all"
    ) -> None:
        self.folder = folder
        self.devices = list(devices.values())
        inventory = "".join(
            f"  {name}: {{address: 127.0.0.1, port: {port}, platform: {type(device).__name__.lower()}, alternate_address: '127.0.0.1:{port + 100}', alternate_interface: out-of-band}}\n"
            for port, (name, device) in enumerate(devices.items(), 1)
        )
        files = {
            "oast.toml": 'format = 1\n[connection]\nusername = "oast"\npassword = { secret = "login" }\ncommand_timeout_s = 5\n'
            "[delivery]\nrevert_timer_s = 30\nverify_timeout_s = 2\n",
            "inventory/devices.yaml": f"devices:\n{inventory}",
            "values/all.yaml": "everywhere:\n  key: {secret: key}\n  text: to the pier\n",
            "intent.yaml": "".join(f"sections:\n  - section: {section}\n" for section in sections.split()),
            **{f"templates/{platform}/all.j2": text for platform, text in templates.items()},
        }
        for name, text in files.items():
            (folder / name).parent.mkdir(parents=True, exist_ok=True)
            (folder / name).write_text(text)
        (folder / "platforms").mkdir()
        for platform in templates:
            shipped = Path(__file__).parent / "data" / "platforms" / f"{platform}.toml"
            (folder / "platforms" / shipped.name).write_text(shipped.read_text())

    async def connect(self, target: Target, login: Login, timeout_s: float, jumps: object = None) -> Line:
        return Line(self.devices[target.port % 100 - 1])

    def run(self, *arguments: str) -> tuple[int, str, str]:
        """The program on this estate: its exit code and what it wrote."""
        return run_program(
            [*arguments, "--estate", str(self.folder)],
            self.connect,
            {"OAST_SECRET_LOGIN": PASSWORD, "OAST_SECRET_KEY": "kelp"},
        )
