"""What this copy of the estate remembers of the ledger: the chain that it writes, and the last entry that it
has seen of each chain.

It stands outside of `changes/`, in the working folder, so that a chain that was cut off, removed or altered
is noticed before anything is appended.
"""

from __future__ import annotations

import json
import secrets
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from oast.archive import Git
from oast.change.record.ledger_entry import FOLDER, FORMAT, Finding, digest
from oast.errors import StateError
from oast.files import write_whole

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
        """The memory in a file; an empty one where there is none. Raises StateError for one that cannot be
        read."""
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
        """Which chain is written: a new one unless `last`, the last entry of the one written so far, is where
        it was left. A copy of the folder, or another branch of it, must not go on with a chain that somebody
        else goes on with, too."""
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
        """Remember the last entry of every chain that goes on from what was seen of it. What was cut off or
        altered stays remembered as it was, or the next audit would have nothing to find it by."""
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
    """The last entry of a chain; None when there is none, or it is none as Oast writes them."""
    try:
        return Head(int(json.loads(lines[-1])["number"]), digest(lines[-1])) if lines else None
    except (ValueError, KeyError, TypeError, RecursionError):
        return None


def whole_digest(lines: Sequence[bytes]) -> str:
    """The digest of several lines together."""
    return digest(b"\n".join(lines))
