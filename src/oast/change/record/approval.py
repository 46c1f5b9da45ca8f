"""Approvals: who has agreed to exactly which difference; signed, where the estate asks for that, with an SSH
key (ssh-keygen -Y)."""

from __future__ import annotations

import base64
import re
import subprocess
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from oast.change.record.ledger_entry import canonical_json
from oast.child_environment import without_secrets
from oast.errors import ApprovalError, StateError

# What signatures are good for: nothing but this (ssh-keygen(1), -n).
NAMESPACE = "oast-approval"
LEDGER_NAMESPACE = "oast-ledger"
AT_MOST_S = 60.0
FORMAT = "oast.approval/1"


# Proposals are signed for another purpose: none can be taken for an approval.
PROPOSAL = "oast.signed-proposal/1"
_ARMOR = re.compile(r"-----BEGIN SSH SIGNATURE-----\s+([A-Za-z0-9+/=\s]+)-----END SSH SIGNATURE-----")
_MAGIC = b"SSHSIG"


@dataclass(frozen=True)
class LedgerSigner:
    """Signs the entries of the ledger as `name` with the SSH key in a file."""

    name: str
    key: Path
    signers: Signers

    def sign(self, text: bytes) -> str:
        """The signature of `text`. Raises StateError."""
        return self.signers.sign(text, self.key, LEDGER_NAMESPACE)


@dataclass(frozen=True)
class Signers:
    """Who may sign: the file of `allowed` signers, as ssh-keygen(1) has it, or None where nothing must be
    signed. ssh-keygen is started with `environment`."""

    allowed: Path | None
    environment: Mapping[str, str]

    def sign(self, text: bytes, key: Path, namespace: str = NAMESPACE) -> str:
        """`text` signed with the SSH key in `key` (or, of a public one, by the agent). Raises StateError."""
        with tempfile.TemporaryDirectory(prefix="oast-") as folder:
            said = Path(folder, "approval")
            said.write_bytes(text)
            self._run(["-Y", "sign", "-q", "-n", namespace, "-f", str(key), str(said)], "cannot sign it")
            return Path(folder, "approval.sig").read_text(encoding="ascii")

    def verify_entry(self, text: bytes, signed: object, who: str) -> bytes:
        """The public key with which `who` has signed an entry of the ledger, `text`. Raises StateError."""
        return self.verify(text, signed, who, LEDGER_NAMESPACE)

    def verify(self, text: bytes, signed: object, who: str, namespace: str = NAMESPACE) -> bytes:
        """The public key with which `who` has signed `text`: one that is allowed for them. Raises
        StateError."""
        if self.allowed is None or not self.allowed.is_file():
            raise StateError(
                f"the file of allowed signers {self.allowed} does not exist",
                hint="see 'allowed_signers' in oast.toml",
            )
        if not isinstance(signed, str):
            raise StateError(f"it is not signed by {who}")
        with tempfile.TemporaryDirectory(prefix="oast-") as folder:
            file = Path(folder, "approval.sig")
            file.write_text(signed, encoding="ascii", errors="replace")
            command = [
                "-Y",
                "verify",
                "-q",
                "-n",
                namespace,
                "-f",
                str(self.allowed),
                "-I",
                who,
                "-s",
                str(file),
            ]
            self._run(command, f"the signature of {who} is invalid", text)
        return public_key(signed)

    def _run(self, arguments: list[str], failed: str, given: bytes = b"") -> None:
        try:
            done = subprocess.run(
                ["ssh-keygen", *arguments],
                input=given,
                capture_output=True,
                timeout=AT_MOST_S,
                check=False,
                env=without_secrets(self.environment),
            )
        except FileNotFoundError:
            raise StateError(f"{failed}: ssh-keygen is not installed", hint="install OpenSSH") from None
        except subprocess.TimeoutExpired:
            raise StateError(
                f"{failed}: ssh-keygen did not finish within {AT_MOST_S:.0f} s",
                hint="add the key to ssh-agent if it needs a passphrase",
            ) from None
        if done.returncode:
            said = (done.stderr or done.stdout).decode(errors="replace").strip().splitlines()
            raise StateError(f"{failed}: {said[-1] if said else 'ssh-keygen gave no reason'}")


def public_key(signed: str) -> bytes:
    """The public key in an SSH signature (PROTOCOL.sshsig of OpenSSH): magic, version, then the key as a
    string. Raises StateError."""
    armor = _ARMOR.search(signed)
    try:
        blob = base64.b64decode("".join(armor[1].split())) if armor is not None else b""
    except ValueError:
        blob = b""
    at = len(_MAGIC) + 4
    size = int.from_bytes(blob[at : at + 4], "big")
    key = blob[at + 4 : at + 4 + size]
    if not blob.startswith(_MAGIC) or not size or len(key) != size:
        raise StateError("the signature is not an SSH signature")
    return key


def proposed_text(change: str, difference: str, who: str) -> bytes:
    """What a proposer signs: which difference they propose as which change."""
    return canonical_json({"format": PROPOSAL, "change": change, "difference": difference, "proposer": who})


def signed_text(change: str, difference: str, who: str) -> bytes:
    """What an approver signs: which difference of which change they agree to."""
    return canonical_json({"format": FORMAT, "change": change, "difference": difference, "approver": who})


def require_valid_approval(
    change: str, proposal: Mapping[str, Any], approval: Mapping[str, Any], signers: Signers
) -> None:
    """Require that an approval, as the ledger has it, counts for this `proposal` of a change.

    Where signatures are asked for, the proposer is proved as well, and one key does not count for two people.
    Raises ApprovalError.
    """
    who, author = str(approval.get("author", "")), str(proposal.get("author", ""))
    difference = str(proposal.get("difference", ""))
    if not who or who == author:
        raise ApprovalError(f"{who or 'an unknown user'} made the change, and cannot approve it")
    if approval.get("difference") != difference:
        raise ApprovalError(f"{who} approved a different diff")
    if signers.allowed is None:
        return
    try:
        proposed = proposed_text(change, difference, author)
        proposer = signers.verify(proposed, proposal.get("signature"), author)
    except StateError as error:
        raise ApprovalError(f"the proposal's signature is not valid: {error.message}") from None
    try:
        approver = signers.verify(signed_text(change, difference, who), approval.get("signature"), who)
    except StateError as error:
        raise ApprovalError(error.message) from None
    if proposer == approver:
        raise ApprovalError(f"{who} signed with the key of {author}, who proposed the change")
