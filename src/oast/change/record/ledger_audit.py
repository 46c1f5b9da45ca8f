"""The audit of the ledger: altered, missing and moved entries and content, accepted breaks, and who has
signed what."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from oast.change.record.approval import Signers
from oast.change.record.ledger_entry import (
    BREAK,
    CHAIN,
    CONTENT,
    FOLDER,
    Entry,
    Finding,
    canonical_json,
    digest,
    signed_entry,
    writer_of,
)
from oast.errors import StateError

VERIFIED_AT_ONCE = 8


@dataclass(frozen=True)
class SignedRange:
    """Entries `first` to `last` of a file, one after the other, of which `signer` has signed every one; None:
    they are not signed."""

    file: str
    first: int
    last: int
    signer: str | None


@dataclass
class Audit:
    """What an audit of all chains has found so far."""

    findings: list[Finding] = field(default_factory=list)
    digests: dict[str, list[str]] = field(default_factory=dict)
    """Of each writer's chain, the digest of every line."""
    signatures: list[SignedRange] = field(default_factory=list)
    _contents: dict[str, tuple[str, int]] = field(default_factory=dict)
    _seen: list[tuple[str, int, str, str]] = field(default_factory=list)
    _signed: list[tuple[Entry, str]] = field(default_factory=list)

    def read(self, path: Path) -> None:
        """Check one chain in itself."""
        try:
            self.digests[writer_of(path)] = self._chain(path)
        except OSError as error:
            self.findings.append(
                Finding(
                    f"{FOLDER}/{path.name}",
                    0,
                    (f"cannot read the file: {error.strerror}; the rest was audited"),
                )
            )

    def compare(self, folder: Path) -> None:
        """Check the chains that were read against each other, and against the content in `folder`."""
        self.findings += _copied(self.digests)
        for file, line, writer, head in self._seen:
            if head not in self.digests.get(writer, ()):
                self.findings.append(
                    Finding(
                        file,
                        line,
                        f"it refers to an entry of {FOLDER}/ledger-{writer}.jsonl that does not exist",
                    )
                )
        self.findings += _wrong_content(folder, self._contents)

    def verify(self, signers: Signers | None) -> None:
        """Check the signatures; without allowed `signers`, every signed entry is a finding."""

        def checked(one: tuple[Entry, str]) -> tuple[Entry, str | None, str | None]:
            entry, signer = one
            if not signer:
                return entry, None, None
            if signers is None or signers.allowed is None:
                return (
                    entry,
                    None,
                    (
                        f"its signature by {signer} cannot be checked: 'allowed_signers' is not set in"
                        " oast.toml"
                    ),
                )
            try:
                signers.verify_entry(signed_entry(entry.said), entry.said.get("signature"), signer)
            except StateError as error:
                return entry, None, error.message
            return entry, signer, None

        with ThreadPoolExecutor(VERIFIED_AT_ONCE) as pool:
            for entry, signer, wrong in pool.map(checked, self._signed):
                if wrong is not None:
                    self.findings.append(Finding(entry.file, entry.line, wrong))
                last = self.signatures[-1] if self.signatures else None
                if last is not None and (last.file, last.last + 1, last.signer) == (
                    entry.file,
                    entry.line,
                    signer,
                ):
                    self.signatures[-1] = SignedRange(last.file, last.first, entry.line, signer)
                else:
                    self.signatures.append(SignedRange(entry.file, entry.line, entry.line, signer))

    def _chain(self, path: Path) -> list[str]:
        """The digests of a chain's lines."""
        file, writer = f"{FOLDER}/{path.name}", writer_of(path)
        lines = path.read_bytes().split(b"\n")
        if lines and lines[-1] == b"":
            lines.pop()
        elif lines:
            self.findings.append(Finding(file, len(lines), "the last entry is incomplete"))
        digests: list[str] = []
        before: str | None = None
        for number, line in enumerate(lines, 1):
            said = _proper(line)
            if said is None:
                self.findings.append(
                    Finding(file, number, "this is not a ledger entry: the line was altered")
                )
            else:
                self._entry(Entry.of(said, writer, file, number), before)
            before = digest(line)
            digests.append(before)
        return digests

    def _entry(self, entry: Entry, before: str | None) -> None:
        said, file, number = entry.said, entry.file, entry.line
        if said.get("writer", entry.writer) != entry.writer:
            message = f"it was written by {said['writer']}, but is in the chain of {entry.writer}"
            self.findings.append(Finding(file, number, message))
        if said.get("before") != before:
            message = "it does not follow the previous entry: an entry was altered, removed, added or moved"
            self.findings.append(Finding(file, number, message))
        elif said.get("number") != number:
            self.findings.append(
                Finding(file, number, f"its number is {said.get('number')}, but it is entry {number}")
            )
        if entry.kind == BREAK:
            for one in _listed(said.get("broken")):
                message = (
                    f"a break was found on {entry.at[:10]} and accepted by {said.get('author')}"
                    f" ({said.get('reason')}): {one}"
                )
                self.findings.append(Finding(file, number, message))
        for name in _contents_of(said):
            self._contents.setdefault(name, (file, number))
        seen = said.get("seen", {})
        if isinstance(seen, dict):
            self._seen.extend((file, number, str(writer), str(head)) for writer, head in seen.items())
        else:
            self.findings.append(
                Finding(
                    file, number, "its 'seen' is not a mapping of writers to digests: the entry was altered"
                )
            )
        self._signed.append((entry, str(said.get("signer", "")) if "signature" in said else ""))


def _listed(value: object) -> Sequence[object]:
    """A list in an entry; another person's entry may hold something else in its place."""
    return value if isinstance(value, list) else ()


def _proper(line: bytes) -> dict[str, Any] | None:
    """The entry in a line; None for one that Oast has not written so."""
    try:
        said = json.loads(line)
        return said if isinstance(said, dict) and canonical_json(said) == line else None
    except (ValueError, RecursionError):
        return None


def _wrong_content(folder: Path, named: Mapping[str, tuple[str, int]]) -> Iterator[Finding]:
    contents = folder / "content"
    there = sorted(contents.iterdir()) if contents.is_dir() else []
    for path in there:
        file = f"{FOLDER}/content/{path.name}"
        if not CONTENT.fullmatch(path.name):
            if not path.name.startswith("."):
                yield Finding(file, 0, "this file is not part of the ledger")
            continue
        try:
            data = path.read_bytes()
        except OSError as error:
            yield Finding(file, 0, f"cannot read the file: {error.strerror}; the rest was audited")
            continue
        if digest(data) != path.stem:
            yield Finding(file, 0, "its content was altered: it does not match the digest in its name")
    names = {path.stem for path in there}
    for name, (file, line) in named.items():
        if name not in names:
            yield Finding(file, line, f"{FOLDER}/content/{name}.json, which it names, is missing")
    for path in sorted(folder.iterdir()) if folder.is_dir() else ():
        if path.name != "content" and not CHAIN.fullmatch(path.name) and not path.name.startswith("."):
            yield Finding(f"{FOLDER}/{path.name}", 0, "this file is not part of the ledger")


def _copied(digests: Mapping[str, Sequence[str]]) -> Iterator[Finding]:
    """Chains with the same first entry: a writer's file was copied to another writer's name."""
    first: dict[str, str] = {}
    for writer, lines in sorted(digests.items()):
        if lines and lines[0] in first:
            other = first[lines[0]]
            message = (
                f"it has the entries of {FOLDER}/ledger-{other}.jsonl: one of the two files is a copy"
                " under another name"
            )
            yield Finding(f"{FOLDER}/ledger-{writer}.jsonl", 1, message)
        elif lines:
            first[lines[0]] = writer


def _contents_of(said: Mapping[str, Any]) -> Iterable[str]:
    return (said[key] for key in ("plan", "outcome", "readings", "staging") if isinstance(said.get(key), str))
