"""A Linux host for tests: an SSH server on loopback that runs each command in a real POSIX shell, and a daemon that can check and reload.

It shares no code with the tool. The daemon's files are in a folder: `lantern.conf`, and `running`, which is what it read last.
"""

from __future__ import annotations

import asyncio
from pathlib import Path
from typing import Any

import asyncssh

USER, PASSWORD = "oast", "reed-and-sedge"
CHECK = 'if grep -q "colour bad" "$1"; then echo "lantern: line with a bad colour" >&2; exit 1; fi\n'


class Host:
    """One host; `refuse` is a word: a command that holds it fails, `drop` one that ends the connection."""

    def __init__(self, folder: Path, config: str) -> None:
        self.folder = folder
        self.path = folder / "lantern.conf"
        self.path.write_text(config)
        (folder / "check.sh").write_text(CHECK)
        (folder / "reload.sh").write_text(f"cp {self.path} {folder}/running\n")
        (folder / "running").write_text(config)
        self.key = asyncssh.generate_private_key("ssh-ed25519")
        self.refuse, self.drop = "", ""
        self.commands: list[str] = []

    @property
    def platform(self) -> str:
        """The ten lines that describe it."""
        return f"""format = 2
[platform]
name = "lantern"
syntax = "braces"
comment = "#"
[session]
one_shot = true
[file]
path = "{self.path}"
check = "sh {self.folder}/check.sh {{path}}"
reload = "sh {self.folder}/reload.sh"
"""

    async def listen(self) -> int:
        self.server = await asyncssh.create_server(
            _Login, "127.0.0.1", 0, server_host_keys=[self.key], process_factory=self._run, encoding=None
        )
        return self.server.get_port()

    async def close(self) -> None:
        self.server.close()
        await self.server.wait_closed()

    @property
    def trusted(self) -> str:
        return " ".join(self.key.export_public_key().decode().split()[:2])

    @property
    def leftovers(self) -> list[str]:
        return sorted(one.name for one in self.folder.iterdir() if one.name.startswith("lantern.conf."))

    async def _run(self, process: Any) -> None:
        command = process.command or ""
        self.commands.append(command)
        if self.drop and self.drop in command:
            self.drop = ""
            process.channel.get_connection().abort()
            return
        if self.refuse and self.refuse in command:
            process.stderr.write(b"sh: not today\n")
            process.exit(1)
            return
        done = await asyncio.create_subprocess_exec(
            "/bin/sh",
            "-c",
            command,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.PIPE,
            start_new_session=True,
        )
        out, error = await done.communicate()
        process.stdout.write(out)
        process.stderr.write(error)
        process.exit(done.returncode)


class _Login(asyncssh.SSHServer):
    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return (username, password) == (USER, PASSWORD)
