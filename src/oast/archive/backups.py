"""What devices have listed, as it stands in the archive: in their own words, without what changes by itself,
secrets as it is set."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from oast.archive.archive import BRANCH, RUNNING, Archive, BackupEntry, backup_file
from oast.config import IndentedSyntax, Node, accept_listed, canonical, masked_lines, tree_as_listed
from oast.errors import ProtocolError, StateError
from oast.estate import ENCRYPTED, MASKED, EncryptedFile, Estate, digest_in
from oast.records import MARK_BEGINS, MARK_ENDS, SHOWN, Secret

# A secret that was kept as its fingerprint.
_FINGERPRINT = re.compile(rf"<secret ([0-9a-f]{{{SHOWN}}})>")
DIGITS = 64


@dataclass(frozen=True)
class ConfigSnapshot:
    """What a device has listed, running or startup."""

    device: str
    kind: str
    syntax: IndentedSyntax
    text: str


class Backups:
    """The archive of one estate."""

    def __init__(self, estate: Estate) -> None:
        self._estate = estate
        self.archive = Archive(estate.working / "archive", estate.environment)

    # --- keeping

    def keep(
        self,
        listings: Iterable[ConfigSnapshot],
        why: str,
        who: str,
        label: str | None = None,
        alias: str | None = None,
        note: str | None = None,
    ) -> str | None:
        """Keep what was listed; the commit, or None when nothing is new (see `Archive.commit`).

        Raises StateError, UsageError, EstateError, OSError."""
        files = {backup_file(one.kind, one.device): self._as_kept(one) for one in listings}
        return self.archive.commit(self._new(files), why, who, label, alias, note)

    def as_kept(self, device: str, syntax: IndentedSyntax, text: str) -> str:
        """What would be kept, or was kept without encryption, of a running configuration that a device lists
        as `text`."""
        return self._as_kept(ConfigSnapshot(device, RUNNING, syntax, text))

    def _as_kept(self, one: ConfigSnapshot) -> str:
        if self._estate.settings.archive.secrets != MASKED and _is_plain(one):
            return one.text if one.text.endswith("\n") else f"{one.text}\n"
        tree = _without_volatile(tree_as_listed(one.syntax, one.text))
        masked = self._estate.settings.archive.secrets == MASKED
        return one.syntax.masked(masked_lines(tree)) if masked else one.syntax.written(tree)

    def _new(self, files: Mapping[str, str]) -> dict[str, bytes]:
        """What is to be written: of encrypted files those that are not as before, as every encryption is
        another."""
        if self._estate.settings.archive.secrets != ENCRYPTED:
            return {file: text.encode("utf-8", "surrogatepass") for file, text in files.items()}
        there = self.archive.contents(BRANCH, list(files))
        sealing = self._sealing()
        found = {}
        for file, text in files.items():
            digest = self._estate.fingerprints.secret("", text).digest
            if file not in there or digest_in(there[file].decode(errors="replace")) != digest:
                found[file] = sealing.sealed(text.encode("utf-8", "surrogatepass"), digest).encode()
        return found

    def _sealing(self) -> EncryptedFile:
        settings = self._estate.settings.secrets
        path = settings.encrypted_file or self._estate.working / "archive"
        return EncryptedFile(path, settings.key_file, self._estate.environment)

    def push(self) -> None:
        """To the remote of the settings, if there is one. Raises StateError."""
        if self._estate.settings.archive.remote is not None:
            self.archive.push(self._estate.settings.archive.remote)

    # --- reading

    def texts(self, point: BackupEntry, devices: Sequence[str], kind: str = RUNNING) -> dict[str, str]:
        """What was kept of `devices` at a point in time; secrets as they were kept. Raises StateError,
        EstateError."""
        found = self.archive.contents(point.commit, [backup_file(kind, name) for name in devices])
        texts = {}
        for name in devices:
            data = found.get(backup_file(kind, name))
            if data is not None:
                text = data.decode("utf-8", "surrogatepass")
                if digest_in(text) is not None:
                    text = self._sealing().unsealed(text).decode("utf-8", "surrogatepass")
                texts[name] = text
        return texts

    def tree(self, syntax: IndentedSyntax, text: str) -> Node:
        """The canonical tree of a text that was kept. Raises StateError."""
        marks: dict[str, Secret] = {}

        def marked(match: re.Match[str]) -> str:
            digest = match[1].ljust(DIGITS, "0")
            marks[digest] = self._estate.fingerprints.kept(match[1])
            return f"{MARK_BEGINS}{digest}{MARK_ENDS}"

        try:
            return canonical(accept_listed(syntax.parse(_FINGERPRINT.sub(marked, text), marks)))
        except ProtocolError as error:
            raise StateError(f"the backup cannot be read: {error.message}") from None


def _is_plain(one: ConfigSnapshot) -> bool:
    """Return whether the text can be kept unchanged: it has neither comments nor parts that change by
    themselves. Printing a tree takes longer than reading it."""
    if any(rule.volatile for rule in one.syntax.grammar.rules()):
        return False
    return one.syntax.comment not in one.text


def _without_volatile(node: Node) -> Node:
    """The tree without what changes by itself."""
    kept = {
        i: _without_volatile(child) for i, child in node.children.items() if not child.statement.rule.volatile
    }
    return node.with_children(kept)
