"""Telling by a program of the engineer's own: it gets the JSON document on its standard input, and says by
its exit code whether it did."""

from __future__ import annotations

import asyncio
import os
import signal
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path

from oast.child_environment import without_secrets
from oast.estate import TargetSettings
from oast.watch.send_result import SendResult, show_answer


async def send_to_command(
    target: TargetSettings, body: bytes, folder: Path, environment: Mapping[str, str]
) -> SendResult:
    """Run the command in the estate's `folder`. One that does not end in time is ended, with all that it has
    started."""
    try:
        process = await asyncio.create_subprocess_exec(
            *target.words,
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.DEVNULL,
            stderr=asyncio.subprocess.PIPE,
            cwd=folder,
            env=without_secrets(environment),
            start_new_session=True,
        )
    except (OSError, ValueError) as error:
        return SendResult(
            False,
            show_answer(f"cannot run {target.words[0]}: {getattr(error, 'strerror', None) or error}"),
        )
    try:
        async with asyncio.timeout(target.timeout_s):
            _, said = await process.communicate(body)
    except TimeoutError:
        return SendResult(False, f"{target.words[0]} did not end within {target.timeout_s:g} s")
    finally:
        if process.returncode is None:
            with suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
            await process.wait()
    if process.returncode == 0:
        return SendResult(True)
    lines = said.decode(errors="replace").strip().splitlines()
    return SendResult(
        False,
        show_answer(
            f"{target.words[0]} exited with code {process.returncode}{': ' + lines[-1] if lines else ''}"
        ),
    )
