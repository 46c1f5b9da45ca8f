"""The ledger: what was proposed, approved, begun and ended, in `changes/`, so that nothing in it can be altered unnoticed.

Every working copy of the estate writes a chain of its own, `ledger-WRITER.jsonl`: one entry a line, in the canonical form of RFC 8785,
each with the SHA-256 digest of the line before. An entry also names the last entry it has seen of every other chain. So Git never has
to merge two people's lines into one file, what comes together from two copies is what each of them wrote, and it shows who knew of
what. A copy that finds its chain shorter than it left it, as on another branch, begins a new one.

What is too long for a line stands in `content/DIGEST.json`, where the name is the digest of the bytes.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import secrets
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import rfc8785

from oast.change.left import now
from oast.errors import StateError
from oast.files import make_folder, make_private, turn, write_whole

FORMAT = "oast.ledger/1"
FOLDER = "changes"
CHAIN = re.compile(r"ledger-([0-9a-f]{12})\.jsonl")
CONTENT = re.compile(r"[0-9a-f]{64}\.json")
MEMORY = "ledger.json"
# Bytes from the end of a chain in which its last line is looked for.
TAIL = 65_536
# Enough for the last changes of a chain; where it is not, all of it is read.
WINDOW = 262_144


def digest(data: bytes) -> str:
    """SHA-256 (FIPS 180-4) in hexadecimal."""
    return hashlib.sha256(data).hexdigest()


def canonical_json(value: Any) -> bytes:
    """`value` in the canonical form of RFC 8785."""
    return rfc8785.dumps(value)


@dataclass(frozen=True)
class Entry:
    """One line of a chain. `said` is the whole of it; `file` and `line` are where it stands."""

    writer: str
    number: int
    kind: str
    change: str
    at: str
    said: Mapping[str, Any]
    file: str
    line: int


@dataclass(frozen=True)
class Finding:
    """What an audit has found: where (file below the estate, line or 0), and what is wrong there."""

    file: str
    line: int
    message: str


class Ledger:
    """The ledger of the estate in `folder`. What this copy remembers of it is in `working`."""

    def __init__(self, folder: Path, working: Path) -> None:
        self._folder = folder / FOLDER
        self._memory = working / MEMORY

    # --- reading

    def entries(self, change: str | None = None) -> list[Entry]:
        """Every entry, or those about one change, by time. Raises StateError for a line that is none."""
        found = [entry for path in self._chains() for entry in self._read(path, change)]
        return sorted(found, key=lambda entry: (entry.at, entry.writer, entry.number))

    def latest(self, number: int) -> tuple[list[Entry], bool]:
        """The entries about the last `number` changes, by time, and whether there are more. Raises StateError for a line that is none."""
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
        found = [_entry(path, None, line) for change in chosen for path, line in lines[change]]
        return sorted(found, key=lambda entry: (entry.at, entry.writer, entry.number)), whole and len(first) <= number

    def content(self, name: str) -> Any:
        """What is kept under a digest. Raises StateError when it is missing, or not what was written there."""
        path = self._folder / "content" / f"{name}.json"
        try:
            data = path.read_bytes()
        except OSError as error:
            raise StateError(f"{path} cannot be read: {error.strerror}", hint="look for it in Git: git log -- changes/content") from None
        if digest(data) != name:
            raise StateError(f"{path} has been altered: its content is not what its name says", hint="oast change audit")
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
            entry = _entry(path, number, line)
            if change is None or entry.change == change:
                yield entry

    # --- writing

    def keep(self, value: Any) -> str:
        """Keep `value` by its content; the digest under which it is found. Raises OSError."""
        data = json.dumps(value, separators=(",", ":"), sort_keys=True, ensure_ascii=False).encode("utf-8", "surrogatepass")
        name = digest(data)
        path = self._folder / "content" / f"{name}.json"
        if not path.exists():
            write_whole(path, data)
        return name

    def append(self, kind: str, change: str, said: Mapping[str, Any]) -> Entry:
        """Write an entry of `kind` about `change`. Raises StateError, OSError."""
        make_folder(self._folder)
        make_private(self._memory.parent)
        with turn(self._memory.parent):
            memory = self._remembered()
            writer = memory["writer"]
            path = self._folder / f"ledger-{writer}.jsonl"
            number, before = memory["heads"].get(writer, [0, None])
            heads = self._heads(but=writer)
            seen = {name: head[1] for name, head in heads.items() if memory["heads"].get(name) != head}
            entry = {
                **said,
                "format": FORMAT,
                "writer": writer,
                "number": number + 1,
                "before": before,
                "kind": kind,
                "change": change,
                "at": now(),
            }
            if seen:
                entry["seen"] = seen
            line = canonical_json(entry)
            _append(path, line + b"\n")
            memory["heads"].update(self._grown(memory["heads"], heads))
            memory["heads"][writer] = [number + 1, digest(line)]
            write_whole(self._memory, json.dumps(memory), mode=0o600)
        return Entry(writer, number + 1, kind, change, str(entry["at"]), entry, f"{FOLDER}/{path.name}", number + 1)

    def _remembered(self) -> dict[str, Any]:
        """What this copy knows: the chain it writes, and the last entry it has seen of each."""
        place = self._memory.parent.stat()
        mine = [place.st_dev, place.st_ino]
        try:
            memory: dict[str, Any] = json.loads(self._memory.read_text(encoding="utf-8"))
            if memory["format"] != FORMAT:
                raise StateError(f"{self._memory} is of another version of Oast")
            heads, writer = memory["heads"], memory["writer"]
        except FileNotFoundError:
            memory, heads, writer = {}, {}, ""
        except (OSError, ValueError, KeyError, TypeError):
            raise StateError(f"{self._memory} cannot be read", hint="remove it: this copy then begins a chain of its own") from None
        last = self._heads(only=writer).get(writer)
        # A copy of the folder, or another branch of it, must not go on with a chain that somebody else goes on with, too.
        if memory.get("folder") != mine or (writer in heads and last != heads[writer]) or (writer not in heads and last is not None):
            writer = secrets.token_hex(6)
        return {"format": FORMAT, "writer": writer or secrets.token_hex(6), "folder": mine, "heads": heads}

    def _heads(self, but: str = "", only: str | None = None) -> dict[str, list[Any]]:
        """Number and digest of the last entry of each chain."""
        found = {}
        for path in self._chains():
            writer = path.name[len("ledger-") : -len(".jsonl")]
            if writer != but and only in (None, writer):
                line = _last_line(path)
                with suppress(ValueError, KeyError, TypeError):
                    found[writer] = [int(json.loads(line)["number"]), digest(line)]
        return found

    def _grown(self, before: Mapping[str, list[Any]], heads: Mapping[str, list[Any]]) -> dict[str, list[Any]]:
        """The chains that go on from what this copy has seen of them. What was cut off or altered stays remembered as it was, or the
        next audit would have nothing to find it by."""
        found = {}
        for writer, head in heads.items():
            known = before.get(writer)
            if known is not None and known != head:
                lines = _lines_of(self._folder / f"ledger-{writer}.jsonl")
                if known[1] not in map(digest, lines):
                    continue
            found[writer] = head
        return found

    # --- auditing

    def audit(self) -> list[Finding]:
        """Everything that is not as it was written: altered, missing or moved entries, and content. Raises OSError."""
        found: list[Finding] = []
        digests: dict[str, list[str]] = {}
        named: dict[str, tuple[str, int]] = {}
        seen: list[tuple[str, int, str, str]] = []
        for path in self._chains():
            writer = path.name[len("ledger-") : -len(".jsonl")]
            try:
                digests[writer] = _audit_chain(path, found, named, seen)
            except OSError as error:
                found.append(Finding(f"{FOLDER}/{path.name}", 0, f"it cannot be read: {error.strerror}; the rest was audited"))
        found += _copied(digests)
        for file, line, writer, head in seen:
            if head not in digests.get(writer, ()):
                found.append(Finding(file, line, f"it has seen an entry of {FOLDER}/ledger-{writer}.jsonl that is not there"))
        found += self._missing_here(digests)
        found += self._wrong_content(named)
        return found

    def _missing_here(self, digests: Mapping[str, list[str]]) -> Iterator[Finding]:
        """What this copy has seen, and is no longer there: the end of a chain has been cut off, or the whole of it."""
        heads, wrong = self._seen()
        if wrong is not None and digests:
            yield Finding(wrong, 0, "nothing to compare with: a shortened ledger would not be noticed")
        for writer, (number, head) in heads.items():
            there = digests.get(writer, [])
            if head not in there:
                what = f"entry {number}, which this copy has seen, is not there any more, or not as it was"
                yield Finding(f"{FOLDER}/ledger-{writer}.jsonl", min(number, len(there) + 1), what)

    def _seen(self) -> tuple[Mapping[str, tuple[int, str]], str | None]:
        """The last entry that this copy has seen of each chain; and the file that should say so, where it is missing or broken."""
        try:
            heads = json.loads(self._memory.read_text(encoding="utf-8"))["heads"]
            return {str(writer): (int(number), str(head)) for writer, (number, head) in heads.items()}, None
        except (OSError, ValueError, KeyError, TypeError, AttributeError):
            return {}, f"{self._memory.parent.name}/{self._memory.name}"

    def seen_until(self) -> list[tuple[str, int]]:
        """How far this copy has seen each chain: file and number of the last entry. Audits notice what is missing up to there."""
        return [(f"{FOLDER}/ledger-{writer}.jsonl", number) for writer, (number, _) in sorted(self._seen()[0].items())]

    def remember(self) -> None:
        """From now on this copy has seen every chain as it is. Raises StateError, OSError."""
        make_private(self._memory.parent)
        with turn(self._memory.parent):
            memory = self._remembered()
            memory["heads"].update(self._grown(memory["heads"], self._heads()))
            write_whole(self._memory, json.dumps(memory), mode=0o600)

    def _wrong_content(self, named: Mapping[str, tuple[str, int]]) -> Iterator[Finding]:
        folder = self._folder / "content"
        there = sorted(folder.iterdir()) if folder.is_dir() else []
        for path in there:
            file = f"{FOLDER}/content/{path.name}"
            if not CONTENT.fullmatch(path.name):
                if not path.name.startswith("."):
                    yield Finding(file, 0, "this is nothing of Oast's")
                continue
            try:
                data = path.read_bytes()
            except OSError as error:
                yield Finding(file, 0, f"it cannot be read: {error.strerror}; the rest was audited")
                continue
            if digest(data) != path.stem:
                yield Finding(file, 0, "its content has been altered: it is not what its name says")
        names = {path.stem for path in there}
        for name, (file, line) in named.items():
            if name not in names:
                yield Finding(file, line, f"{FOLDER}/content/{name}.json, which it names, is missing")
        for path in sorted(self._folder.iterdir()) if self._folder.is_dir() else ():
            if path.name != "content" and not CHAIN.fullmatch(path.name) and not path.name.startswith("."):
                yield Finding(f"{FOLDER}/{path.name}", 0, "this is nothing of Oast's")


# The keys of an entry are sorted (RFC 8785, section 3.2.3): the time comes first. A quotation mark inside a text has a backslash before it.
_AT, _CHANGE = b'{"at":"', b'"change":"'


def _head(line: bytes) -> tuple[bytes, bytes] | None:
    """When an entry was written, and which change it is about, found without reading all of it."""
    start = line.find(_CHANGE) + len(_CHANGE)
    if not line.startswith(_AT) or start < len(_CHANGE):
        return None
    return line[len(_AT) : line.find(b'"', len(_AT))], line[start : line.find(b'"', start)]


def _entry_head(path: Path, line: bytes) -> tuple[bytes, bytes]:
    entry = _entry(path, None, line)
    return entry.at.encode(), entry.change.encode()


def _lines_of(path: Path) -> list[bytes]:
    try:
        return path.read_bytes().splitlines()
    except OSError as error:
        raise StateError(f"{path} cannot be read: {error.strerror}") from None


def _tail_of(path: Path, window: int | None) -> tuple[list[bytes], bool]:
    """The whole lines in the last `window` bytes of a chain (None: all), and whether that is all of it."""
    if window is None or path.stat().st_size <= window:
        return _lines_of(path), True
    with path.open("rb") as file:
        file.seek(-window, os.SEEK_END)
        return file.read().splitlines()[1:], False


def _entry(path: Path, number: int | None, line: bytes) -> Entry:
    """An entry; the line in the file is its own number where that is not known. Raises StateError."""
    writer = path.name[len("ledger-") : -len(".jsonl")]
    try:
        said = json.loads(line)
        at = said["number"] if number is None else number
        return Entry(writer, said["number"], said["kind"], said["change"], said["at"], said, f"{FOLDER}/{path.name}", at)
    except (ValueError, KeyError, TypeError):
        where = path if number is None else f"{path}:{number}"
        raise StateError(f"{where} is no entry of a ledger", hint="oast change audit") from None


def writer_of(path: Path) -> str:
    """The writer whose chain is in a file, by the file's name."""
    return path.name[len("ledger-") : -len(".jsonl")]


def _audit_chain(path: Path, found: list[Finding], named: dict[str, tuple[str, int]], seen: list[tuple[str, int, str, str]]) -> list[str]:
    """The digests of a chain's lines; what is wrong with it goes to `found`."""
    file = f"{FOLDER}/{path.name}"
    data = path.read_bytes()
    lines = data.split(b"\n")
    if lines and lines[-1] == b"":
        lines.pop()
    elif lines:
        found.append(Finding(file, len(lines), "the last entry is cut off"))
    digests: list[str] = []
    before: str | None = None
    for number, line in enumerate(lines, 1):
        try:
            said = json.loads(line)
            proper = isinstance(said, dict) and canonical_json(said) == line
        except (ValueError, RecursionError):
            proper = False
        if not proper:
            found.append(Finding(file, number, "this is no entry as Oast writes them: it has been altered"))
        else:
            if said.get("writer", writer_of(path)) != writer_of(path):
                message = f"it was written by {said['writer']}, and stands in the chain of {writer_of(path)}"
                found.append(Finding(file, number, message))
            if said.get("before") != before:
                found.append(Finding(file, number, "it does not follow the entry before it: one was altered, removed, added or moved"))
            elif said.get("number") != number:
                found.append(Finding(file, number, f"it says to be entry {said.get('number')}, and is the {number}."))
            for name in _contents_of(said):
                named.setdefault(name, (file, number))
            seen.extend((file, number, writer, head) for writer, head in said.get("seen", {}).items())
        before = digest(line)
        digests.append(before)
    return digests


def _copied(digests: Mapping[str, Sequence[str]]) -> Iterator[Finding]:
    """Chains with the same first entry: a writer's file was copied to another writer's name."""
    first: dict[str, str] = {}
    for writer, lines in sorted(digests.items()):
        if lines and lines[0] in first:
            other = first[lines[0]]
            message = f"its entries are those of {FOLDER}/ledger-{other}.jsonl: one of the two files is a copy under another writer's name"
            yield Finding(f"{FOLDER}/ledger-{writer}.jsonl", 1, message)
        elif lines:
            first[lines[0]] = writer


def _contents_of(said: Mapping[str, Any]) -> Iterable[str]:
    return (said[key] for key in ("plan", "outcome", "readings") if isinstance(said.get(key), str))


def _last_line(path: Path) -> bytes:
    with path.open("rb") as file:
        size = file.seek(0, os.SEEK_END)
        file.seek(max(0, size - TAIL))
        lines = file.read().splitlines()
    return lines[-1] if lines else b""


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
