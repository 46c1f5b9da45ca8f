"""The ledger: what was proposed, approved, begun and ended, in `changes/`, so that nothing in it can be
altered unnoticed.

Every working copy of the estate writes a chain of its own, `ledger-WRITER.jsonl`: one entry a line, in the
canonical form of RFC 8785, each with the SHA-256 digest of the line before. An entry also names the last
entry it has seen of every other chain. So Git never has to merge two people's lines into one file, what comes
together from two copies is what each of them wrote, and it shows who knew of what. A copy that finds its
chain shorter than it left it, as on another branch, begins a new one.

What is too long for a line stands in `content/DIGEST.json`, where the name is the digest of the bytes.
"""

from __future__ import annotations

import json
import os
import secrets
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

from oast.archive import Git
from oast.change.record.approval import Signers
from oast.change.record.journal_reader import now_text
from oast.change.record.ledger_audit import Audit
from oast.change.record.ledger_entry import (
    BREAK,
    CHAIN,
    CLOSING,
    FOLDER,
    FORMAT,
    Anchor,
    Entry,
    Finding,
    canonical_json,
    digest,
    read_entry,
    signed_entry,
    writer_of,
)
from oast.errors import OastError, StateError
from oast.files import directory_lock, make_folder, make_private, write_whole

MEMORY = "ledger.json"


@dataclass(frozen=True)
class Head:
    """The last entry of a chain: its number, from 1, and the digest of its line."""

    number: int
    digest: str


@dataclass(frozen=True)
class AcceptedPart:
    """The beginning of a chain that does not hold together and was accepted so: how many lines, and the
    digest of all of them."""

    lines: int
    digest: str


@dataclass
class LedgerMemory:
    """The memory of one copy. `folder` is what tells a copy of the working folder from the folder itself:
    device and inode."""

    writer: str = ""
    folder: tuple[int, int] | None = None
    heads: dict[str, Head] = field(default_factory=dict)
    accepted: dict[str, AcceptedPart] = field(default_factory=dict)

    @classmethod
    def read(cls, file: Path) -> LedgerMemory:
        """Read the memory from a file; a missing file is an empty memory. Raises StateError for an unreadable
        file."""
        try:
            said: dict[str, Any] = json.loads(file.read_text(encoding="utf-8"))
            if said["format"] != FORMAT:
                raise StateError(f"{file} was written by another version of Oast")
            heads = {
                str(writer): Head(int(number), str(head)) for writer, (number, head) in said["heads"].items()
            }
            accepted = {
                str(writer): AcceptedPart(int(lines), str(head))
                for writer, (lines, head) in said.get("accepted", {}).items()
            }
            return cls(str(said["writer"]), tuple(said.get("folder") or ()) or None, heads, accepted)
        except FileNotFoundError:
            return cls()
        except (OSError, ValueError, KeyError, TypeError, AttributeError):
            raise StateError(
                f"cannot read {file}", hint="remove it; this copy then starts a new chain"
            ) from None

    def write(self, file: Path) -> None:
        """Raises OSError."""
        said = {
            "format": FORMAT,
            "writer": self.writer,
            "folder": self.folder,
            "heads": {writer: [head.number, head.digest] for writer, head in self.heads.items()},
            "accepted": {writer: [part.lines, part.digest] for writer, part in self.accepted.items()},
        }
        write_whole(file, json.dumps(said), mode=0o600)

    def choose_writer(self, folder: Path, last: Head | None) -> None:
        """Choose the chain to write: a new one unless `last`, its last entry, is where it was left. A copy of
        the folder, or another branch of it, must not continue a chain that the original continues, too."""
        place = folder.stat()
        mine = (place.st_dev, place.st_ino)
        if self.folder != mine or not self.writer or self.heads.get(self.writer) != last:
            self.writer = secrets.token_hex(6)
        self.folder = mine

    # --- what was seen, and is not there any more

    def breaks(
        self, chains: Mapping[str, Sequence[bytes]], elsewhere: Branches
    ) -> Iterator[tuple[str, Finding]]:
        """The writers whose chains are not as this copy has seen them, and what is wrong. `chains` are the
        lines of every chain."""
        for writer, head in self.heads.items():
            lines = chains.get(writer, ())
            digests = [digest(line) for line in lines]
            file = f"{FOLDER}/ledger-{writer}.jsonl"
            if head.digest not in digests:
                if not elsewhere.has(writer, head.digest):
                    what = f"entry {head.number}, which this copy knows, is missing or was altered"
                    yield writer, Finding(file, min(head.number, len(lines) + 1), what)
                continue
            wrong = self._first_wrong(writer, lines, digests, digests.index(head.digest))
            if wrong is not None:
                yield (
                    writer,
                    Finding(
                        file,
                        wrong,
                        "it does not follow the previous entry: an entry was altered, removed, added or"
                        " moved",
                    ),
                )

    def _first_wrong(
        self, writer: str, lines: Sequence[bytes], digests: Sequence[str], last: int
    ) -> int | None:
        """The line up to `last` that does not follow the one before it; None when all do."""
        part = self.accepted.get(writer)
        start = 1
        if part is not None:
            if whole_digest(lines[: part.lines]) != part.digest:
                return 1
            start = part.lines + 1
        # In canonical form, a quotation mark inside a text has a backslash before it: this is found as a key
        # only.
        for number in range(start, last + 1):
            if b'"before":"%s"' % digests[number - 1].encode() not in lines[number]:
                return number + 1
        return None

    def accept(self, writer: str, lines: Sequence[bytes]) -> None:
        """From now on a chain counts as it is."""
        if lines:
            self.heads[writer] = Head(len(lines), digest(lines[-1]))
            self.accepted[writer] = AcceptedPart(len(lines), whole_digest(lines))
        else:
            self.heads.pop(writer, None)
            self.accepted.pop(writer, None)
        if writer == self.writer:
            self.writer = secrets.token_hex(6)

    def see(self, chains: Mapping[str, Sequence[bytes]]) -> None:
        """Remember the last entry of every chain that continues what was seen of it. The state of a chain
        that was cut or altered stays remembered; otherwise the next audit could not find the damage."""
        for writer, lines in chains.items():
            head = head_of(lines)
            known = self.heads.get(writer)
            if head is not None and (known is None or known == head or known.digest in map(digest, lines)):
                self.heads[writer] = head


class Branches:
    """The other branches of the estate's repository: a chain that is shorter here may be whole there."""

    def __init__(self, folder: Path, environment: Mapping[str, str]) -> None:
        self._folder = folder
        self._environment = environment

    def has(self, writer: str, head: str) -> bool:
        """Whether the entry with the digest `head` is in the chain of a branch, tag or stash that is not part
        of what is checked out."""
        try:
            git = Git(self._folder, self._environment)
            refs = git.run("for-each-ref", "--format=%(objectname)", "--no-merged=HEAD").split()
            for ref in dict.fromkeys(refs):
                with suppress(StateError):
                    text = git.output("show", f"{ref}:./{FOLDER}/ledger-{writer}.jsonl")
                    if head in map(digest, text.splitlines()):
                        return True
        except (StateError, OSError):
            pass  # No repository, or no git: there are no other branches.
        return False


def head_of(lines: Sequence[bytes]) -> Head | None:
    """Return the last entry of a chain; None when there is none, or when Oast did not write it."""
    try:
        return Head(int(json.loads(lines[-1])["number"]), digest(lines[-1])) if lines else None
    except (ValueError, KeyError, TypeError, RecursionError):
        return None


def whole_digest(lines: Sequence[bytes]) -> str:
    """The digest of several lines together."""
    return digest(b"\n".join(lines))


# Enough for the last changes of a chain; where it is not, all of it is read.
WINDOW = 262_144
NO_ENVIRONMENT: Mapping[str, str] = {}


class EntrySigner(Protocol):
    """Who signs the entries that this copy writes."""

    @property
    def name(self) -> str:
        """Whose signature it is, as the allowed signers name it."""

    def sign(self, text: bytes) -> str:
        """The signature of `text`. Raises StateError."""


class LedgerBroken(StateError):
    """Something of the ledger that this copy has seen is missing or was altered; nothing was appended."""

    def __init__(self, broken: list[Finding]) -> None:
        self.broken = tuple(broken)
        more = f", and {len(broken) - 1} more" if len(broken) > 1 else ""
        hint = "restore it from Git, or continue without it: oast change audit --accept-break REASON"
        super().__init__(f"the ledger was cut or altered: {broken[0]}{more}", hint=hint)


class Ledger:
    """The ledger of the estate in `folder`. What this copy remembers of it is in `working`. Entries are
    signed where there is a `signer`; Git, which may have the chains of other branches, is run in
    `environment`."""

    def __init__(
        self,
        folder: Path,
        working: Path,
        environment: Mapping[str, str] = NO_ENVIRONMENT,
        signer: EntrySigner | None = None,
    ) -> None:
        self._folder = folder / FOLDER
        self._memory = working / MEMORY
        self._branches = Branches(folder, environment)
        self._signer = signer

    # --- reading

    def entries(self, change: str | None = None) -> list[Entry]:
        """Return all entries, or those of one change, by time. Raises StateError for an invalid line."""
        found = [entry for path in self._chains() for entry in self._read(path, change)]
        return sorted(found, key=lambda entry: (entry.at, entry.writer, entry.number))

    def latest(self, number: int) -> tuple[list[Entry], bool]:
        """Return the entries of the last `number` changes, by time, and whether there are more. Raises
        StateError for an invalid line."""
        found, whole = self._latest(number, WINDOW)
        began = {entry.change for entry in found if entry.kind in ("begun", "proposed")}
        if not whole and (len(began) < number or began != {entry.change for entry in found}):
            found, whole = self._latest(number, None)
        return found, not whole

    def _latest(self, number: int, window: int | None) -> tuple[list[Entry], bool]:
        """The same, of no more than the last `window` bytes of each chain; and whether that was all."""
        first: dict[bytes, bytes] = {}
        lines: dict[bytes, list[tuple[Path, bytes]]] = {}
        whole = True
        for path in self._chains():
            tail, complete = _tail_of(path, window)
            whole = whole and complete
            for line in tail:
                at, change = _head(line) or _entry_head(path, line)
                lines.setdefault(change, []).append((path, line))
                first[change] = min(first.get(change, at), at)
        chosen = sorted(first, key=lambda change: (first[change], change))[-number:]
        found = [read_entry(path, None, line) for change in chosen for path, line in lines[change]]
        return (
            sorted(found, key=lambda entry: (entry.at, entry.writer, entry.number)),
            whole and len(first) <= number,
        )

    def content(self, name: str) -> Any:
        """What is kept under a digest. Raises StateError when it is missing, or not what was
        written there."""
        path = self._folder / "content" / f"{name}.json"
        try:
            data = path.read_bytes()
        except OSError as error:
            raise StateError(
                f"cannot read {path}: {error.strerror}",
                hint="restore it from Git: git log -- changes/content",
            ) from None
        if digest(data) != name:
            raise StateError(
                f"{path} was altered: its content does not match the digest in its name",
                hint="oast change audit",
            )
        return json.loads(data)

    def _chains(self) -> list[Path]:
        if not self._folder.is_dir():
            return []
        return sorted(path for path in self._folder.iterdir() if CHAIN.fullmatch(path.name))

    def _read(self, path: Path, change: str | None) -> Iterator[Entry]:
        about = None if change is None else json.dumps(change).encode()
        for number, line in enumerate(_lines_of(path), 1):
            if about is not None and about not in line:
                continue
            entry = read_entry(path, number, line)
            if change is None or entry.change == change:
                yield entry

    # --- writing

    def keep(self, value: Any) -> str:
        """Keep `value` by its content; the digest under which it is found. Raises OSError."""
        data = json.dumps(value, separators=(",", ":"), sort_keys=True, ensure_ascii=False).encode(
            "utf-8", "surrogatepass"
        )
        name = digest(data)
        path = self._folder / "content" / f"{name}.json"
        if not path.exists():
            write_whole(path, data)
        return name

    def append(self, kind: str, change: str, said: Mapping[str, Any]) -> Entry:
        """Write an entry of `kind` about `change`. Raises LedgerBroken when something that this copy has seen
        is not there any more, unless the entry ends what was begun: then the break is written down before it.
        Raises StateError, OSError.
        """
        with self._opened() as memory:
            chains = self._lines()
            broken = dict(memory.breaks(chains, self._branches))
            if broken and kind not in CLOSING:
                raise LedgerBroken(list(broken.values()))
            if broken:
                self._accept(
                    memory,
                    chains,
                    broken,
                    "found after the run",
                    str(said.get("author", "Oast")),
                    needs_signature=False,
                )
            return self._write(memory, kind, change, said, needs_signature=kind not in CLOSING)

    def require_whole(self) -> None:
        """Raises LedgerBroken when something that this copy has seen is not there any more; StateError,
        OSError."""
        # A file in place of the folder is reported when the ledger is written.
        is_folder = self._folder.is_dir() or not self._folder.exists()
        if is_folder and self._memory.exists():
            memory = LedgerMemory.read(self._memory)
            broken = dict(memory.breaks(self._lines(), self._branches))
            if broken:
                raise LedgerBroken(list(broken.values()))

    def accept_break(self, reason: str, author: str) -> list[Finding]:
        """Go on with the ledger as it is; what is missing or altered is written down with the reason, and
        told by every later audit. What that was: nothing, when the ledger is whole. Raises StateError,
        OSError."""
        with self._opened() as memory:
            chains = self._lines()
            broken = dict(memory.breaks(chains, self._branches))
            if broken:
                self._accept(memory, chains, broken, reason, author)
            return list(broken.values())

    @contextmanager
    def _opened(self) -> Iterator[LedgerMemory]:
        """This copy's memory, while no other process writes."""
        make_folder(self._folder)
        make_private(self._memory.parent)
        with directory_lock(self._memory.parent):
            memory = LedgerMemory.read(self._memory)
            self._drop_unfinished(memory)
            memory.choose_writer(self._memory.parent, head_of(self._lines_of(memory.writer)))
            yield memory

    def _drop_unfinished(self, memory: LedgerMemory) -> None:
        """Take the beginning of a line away that this copy was writing when its process was killed: no copy
        has seen it as an entry."""
        lines = self._lines_of(memory.writer)
        known = memory.heads.get(memory.writer)
        path = self._folder / f"ledger-{memory.writer}.jsonl"
        if (
            lines
            and not path.read_bytes().endswith(b"\n")
            and (known.digest if known else None) == (digest(lines[-2]) if lines[1:] else None)
        ):
            os.truncate(path, path.stat().st_size - len(lines[-1]))

    def _accept(
        self,
        memory: LedgerMemory,
        chains: Mapping[str, list[bytes]],
        broken: Mapping[str, Finding],
        reason: str,
        author: str,
        *,
        needs_signature: bool = True,
    ) -> None:
        for writer in broken:
            memory.accept(writer, chains.get(writer, []))
        said = {"author": author, "reason": reason, "broken": [str(finding) for finding in broken.values()]}
        self._write(memory, BREAK, "", said, needs_signature=needs_signature)

    def _write(
        self, memory: LedgerMemory, kind: str, change: str, said: Mapping[str, Any], *, needs_signature: bool
    ) -> Entry:
        writer = memory.writer
        path = self._folder / f"ledger-{writer}.jsonl"
        last = memory.heads.get(writer)
        chains = {name: lines for name, lines in self._lines().items() if name != writer}
        known = dict(memory.heads)
        memory.see(chains)
        number = 1 if last is None else last.number + 1
        entry: dict[str, Any] = {
            **said,
            "format": FORMAT,
            "writer": writer,
            "number": number,
            "before": None if last is None else last.digest,
            "kind": kind,
            "change": change,
            "at": now_text(),
        }
        seen = {
            name: head.digest
            for name, head in memory.heads.items()
            if name in chains and known.get(name) != head
        }
        if seen:
            entry["seen"] = seen
        line = canonical_json(self._signed(entry, needs_signature=needs_signature))
        _append(path, line + b"\n")
        memory.heads[writer] = Head(number, digest(line))
        memory.write(self._memory)
        return Entry(writer, number, kind, change, str(entry["at"]), entry, f"{FOLDER}/{path.name}", number)

    def _signed(self, entry: dict[str, Any], *, needs_signature: bool) -> dict[str, Any]:
        if self._signer is None:
            return entry
        entry["signer"] = self._signer.name
        try:
            entry["signature"] = self._signer.sign(signed_entry(entry))
        except OastError as error:
            if needs_signature:
                raise
            # The outcome of a run is recorded in any case.
            del entry["signer"]
            entry["unsigned"] = error.message
        return entry

    def _lines(self) -> dict[str, list[bytes]]:
        """Every chain, line by line."""
        return {writer_of(path): self._lines_of(writer_of(path)) for path in self._chains()}

    def _lines_of(self, writer: str) -> list[bytes]:
        """Return the lines of a chain; none where the file is missing or a folder, which the audit
        reports."""
        path = self._folder / f"ledger-{writer}.jsonl"
        return _lines_of(path) if path.is_file() else []

    # --- auditing

    def audit(self, signers: Signers | None = None, anchors: Iterable[Anchor] = ()) -> Audit:
        """Return every problem of the ledger: altered, missing or moved entries and contents; and who signed
        what. `anchors` are heads that were recorded elsewhere. Raises OSError."""
        audit = Audit()
        for path in self._chains():
            audit.read(path)
        audit.compare(self._folder)
        audit.findings += self._missing_here(audit)
        audit.findings += list(self._missing_anchors(audit, anchors))
        audit.verify(signers)
        return audit

    def _missing_here(self, audit: Audit) -> Iterator[Finding]:
        """Return what this copy has seen and is now missing: the end of a chain, or all of it, was cut
        off."""
        heads = self._seen()
        if heads is None:
            if audit.digests:
                file = f"{self._memory.parent.name}/{self._memory.name}"
                yield Finding(
                    file, 0, ("there is nothing to compare with, so a shortened ledger cannot be detected")
                )
            return
        for writer, head in heads.items():
            there = audit.digests.get(writer, [])
            if head.digest not in there and not self._branches.has(writer, head.digest):
                what = f"entry {head.number}, which this copy knows, is missing or was altered"
                yield Finding(f"{FOLDER}/ledger-{writer}.jsonl", min(head.number, len(there) + 1), what)

    def _missing_anchors(self, audit: Audit, anchors: Iterable[Anchor]) -> Iterator[Finding]:
        """Heads of chains that were recorded elsewhere, and are not in the chains: of each chain, the first
        one."""
        told = set()
        for anchor in sorted(anchors, key=lambda one: (one.writer, one.number)):
            there = audit.digests.get(anchor.writer, [])
            if (
                anchor.digest not in there
                and anchor.writer not in told
                and not self._branches.has(anchor.writer, anchor.digest)
            ):
                told.add(anchor.writer)
                file, line = f"{FOLDER}/ledger-{anchor.writer}.jsonl", min(anchor.number, len(there) + 1)
                # What this copy has seen as well is one finding already.
                if not any((finding.file, finding.line) == (file, line) for finding in audit.findings):
                    yield Finding(
                        file,
                        line,
                        f"entry {anchor.number}, which {anchor.where} names, is missing or was altered",
                    )

    def _seen(self) -> dict[str, Head] | None:
        """The last entry that this copy has seen of each chain; None where it does not know."""
        try:
            return LedgerMemory.read(self._memory).heads if self._memory.exists() else None
        except StateError:
            return None

    def seen_until(self) -> list[tuple[str, int]]:
        """How far this copy has seen each chain: file and number of the last entry. Audits notice what is
        missing up to there."""
        return [
            (f"{FOLDER}/ledger-{writer}.jsonl", head.number)
            for writer, head in sorted((self._seen() or {}).items())
        ]

    def head(self) -> Anchor | None:
        """The last entry that this copy has written, to be recorded elsewhere; None before it has written
        any. Raises StateError."""
        memory = LedgerMemory.read(self._memory)
        head = memory.heads.get(memory.writer)
        return None if head is None else Anchor(memory.writer, head.number, head.digest)

    def remember(self) -> None:
        """From now on this copy has seen every chain as it is. Raises StateError, OSError."""
        with self._opened() as memory:
            memory.see(self._lines())
            memory.write(self._memory)


# The keys of an entry are sorted (RFC 8785, section 3.2.3): the time comes first. A quotation mark inside a
# text has a backslash before it.
_AT, _CHANGE = b'{"at":"', b'"change":"'


def _head(line: bytes) -> tuple[bytes, bytes] | None:
    """When an entry was written, and which change it is about, found without reading all of it."""
    start = line.find(_CHANGE) + len(_CHANGE)
    if not line.startswith(_AT) or start < len(_CHANGE):
        return None
    return line[len(_AT) : line.find(b'"', len(_AT))], line[start : line.find(b'"', start)]


def _entry_head(path: Path, line: bytes) -> tuple[bytes, bytes]:
    entry = read_entry(path, None, line)
    return entry.at.encode(), entry.change.encode()


def _lines_of(path: Path) -> list[bytes]:
    try:
        return path.read_bytes().splitlines()
    except OSError as error:
        raise StateError(f"cannot read {path}: {error.strerror}") from None


def _tail_of(path: Path, window: int | None) -> tuple[list[bytes], bool]:
    """The whole lines in the last `window` bytes of a chain (None: all), and whether that is all of it."""
    if window is None or path.stat().st_size <= window:
        return _lines_of(path), True
    with path.open("rb") as file:
        file.seek(-window, os.SEEK_END)
        return file.read().splitlines()[1:], False


def _append(path: Path, line: bytes) -> None:
    """Write a whole line at the end, or nothing of it."""
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o644)
    try:
        size = os.fstat(handle).st_size
        try:
            rest = line
            while rest:
                rest = rest[os.write(handle, rest) :]
            os.fsync(handle)
        except OSError:
            os.ftruncate(handle, size)
            raise
    finally:
        os.close(handle)
