"""The command that prints secrets: run without what is secret itself, bounded, and its output checked."""

from __future__ import annotations

import os
import selectors
import signal
import subprocess
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path

from oast.child_environment import without_secrets
from oast.errors import EstateError
from oast.records import Place

AT_MOST_S = 30.0
AT_MOST_BYTES = 65_536
# Of what the command says of itself when it fails.
SAID_LINES = 3
SAID_CHARACTERS = 200


class SecretNotFound(Exception):
    """The command ended with an error: it does not have this secret. The message is what it said."""


def run_secret_command(
    words: Sequence[str], name: str, folder: Path, environment: Mapping[str, str], place: Place
) -> str:
    """Return what the command prints for the secret `name`: one line of text. A relative path starts at the
    estate's `folder`.

    Raises SecretNotFound when the command fails, EstateError when it cannot be run, does not end, or prints
    something that is not a secret.
    """
    filled = [word.replace("{name}", name) for word in words]
    try:
        process = subprocess.Popen(
            filled,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            cwd=folder,
            env=without_secrets(environment),
            start_new_session=True,
        )
    except (OSError, ValueError) as error:
        reason = (error.strerror if isinstance(error, OSError) else None) or str(error)
        raise EstateError(
            f"cannot run the command for secrets: {reason}",
            place=place,
            hint=(f"the command is: {filled[0]}"),
        ) from None
    with process:
        try:
            output, said = _collected(process, place)
            code = process.wait(1)
        except subprocess.TimeoutExpired:
            raise EstateError("the command for secrets did not end", place=place) from None
        finally:
            with suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
    if code != 0:
        raise SecretNotFound(_words_of(said) or f"it exited with code {code}")
    return _checked(output, name, place)


def _collected(process: subprocess.Popen[bytes], place: Place) -> tuple[bytes, bytes]:
    """What it puts out and what it says, until it closes both. Raises EstateError beyond the limits."""
    found = {process.stdout: b"", process.stderr: b""}
    until = time.monotonic() + AT_MOST_S
    with selectors.DefaultSelector() as selector:
        for stream in found:
            if stream is not None:
                selector.register(stream, selectors.EVENT_READ)
        while selector.get_map():
            for key, _ in selector.select(max(0.0, until - time.monotonic())):
                data = os.read(key.fd, AT_MOST_BYTES)
                if not data:
                    selector.unregister(key.fileobj)
                found[key.fileobj] += data  # type: ignore[index]
            if any(len(data) > AT_MOST_BYTES for data in found.values()):
                raise EstateError(
                    f"the command for secrets printed more than {AT_MOST_BYTES} bytes", place=place
                )
            if time.monotonic() > until and selector.get_map():
                raise EstateError(f"the command for secrets took more than {AT_MOST_S:g} s", place=place)
    return found[process.stdout], found[process.stderr]


def _words_of(said: bytes) -> str:
    """What a failing command says for itself, as one short text."""
    lines = [line.strip() for line in said.decode("utf-8", "replace").splitlines() if line.strip()]
    return "; ".join(lines[-SAID_LINES:])[:SAID_CHARACTERS]


def _checked(output: bytes, name: str, place: Place) -> str:
    """The line it printed. Raises EstateError, which shows nothing of it."""
    try:
        text = output.decode("utf-8").removesuffix("\n").removesuffix("\r")
    except UnicodeDecodeError:
        raise EstateError(
            f"the output of the command for the secret '{name}' is not UTF-8 text", place=place
        ) from None
    if not text:
        raise EstateError(
            f"the command printed nothing for the secret '{name}'",
            place=place,
            hint="let it exit with an error when it has no such secret",
        )
    if "\n" in text or "\0" in text:
        what = "several lines" if "\n" in text else "a NUL"
        raise EstateError(
            f"the command printed {what} for the secret '{name}'",
            place=place,
            hint="let it print only the secret",
        )
    return text
