"""Approvals: who has agreed to exactly which difference; signed, where the estate asks for that, with an SSH key (ssh-keygen -Y)."""

from __future__ import annotations

import subprocess
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from oast.change.ledger import canonical_json
from oast.errors import StateError

# What a signature is good for: nothing but this (ssh-keygen(1), -n).
NAMESPACE = "oast-approval"
AT_MOST_S = 60.0
FORMAT = "oast.approval/1"


def signed_text(change: str, difference: str, who: str) -> bytes:
    """What is signed: who agrees to which difference of which change."""
    return canonical_json({"format": FORMAT, "change": change, "difference": difference, "approver": who})


def signature(text: bytes, key: Path) -> str:
    """`text` signed with the SSH key in `key` (or, of a public one, by the agent). Raises StateError."""
    with tempfile.TemporaryDirectory(prefix="oast-") as folder:
        said = Path(folder, "approval")
        said.write_bytes(text)
        _run(["-Y", "sign", "-q", "-n", NAMESPACE, "-f", str(key), str(said)], "the approval cannot be signed")
        return Path(folder, "approval.sig").read_text(encoding="ascii")


def verify(text: bytes, signed: str, who: str, allowed_signers: Path) -> None:
    """Whether `signed` is the signature of `who` under `text`, with a key that `allowed_signers` has for them. Raises StateError."""
    if not allowed_signers.is_file():
        raise StateError(f"there is no file {allowed_signers} of those who may approve", hint="see 'allowed_signers' in oast.toml")
    with tempfile.TemporaryDirectory(prefix="oast-") as folder:
        file = Path(folder, "approval.sig")
        file.write_text(signed, encoding="ascii", errors="replace")
        command = ["-Y", "verify", "-q", "-n", NAMESPACE, "-f", str(allowed_signers), "-I", who, "-s", str(file)]
        _run(command, f"the signature of {who} is not good", text)


def _run(arguments: list[str], failed: str, given: bytes = b"") -> None:
    try:
        done = subprocess.run(["ssh-keygen", *arguments], input=given, capture_output=True, timeout=AT_MOST_S, check=False)
    except FileNotFoundError:
        raise StateError(f"{failed}: there is no ssh-keygen on this machine", hint="it comes with OpenSSH") from None
    except subprocess.TimeoutExpired:
        raise StateError(f"{failed}: ssh-keygen has not ended within {AT_MOST_S:.0f} s", hint="does it wait for a passphrase?") from None
    if done.returncode:
        said = (done.stderr or done.stdout).decode(errors="replace").strip().splitlines()
        raise StateError(f"{failed}: {said[-1] if said else 'ssh-keygen says nothing'}")


def why_not_good(change: str, difference: str, author: str, said: Mapping[str, Any], allowed_signers: Path | None) -> str | None:
    """Why an approval, as the ledger has it, does not count for this difference of this change; None when it does."""
    who = str(said.get("author", ""))
    if not who or who == author:
        return f"{who or 'nobody'} has made the change"
    if said.get("difference") != difference:
        return f"{who} has approved another difference"
    if allowed_signers is None:
        return None
    signed = said.get("signature")
    if not isinstance(signed, str):
        return f"{who} has not signed it"
    try:
        verify(signed_text(change, difference, who), signed, who, allowed_signers)
    except StateError as error:
        return error.message
    return None
