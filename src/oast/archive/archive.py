"""Backups in Git: one file for each device and kind, a commit for each run that found something new, an
annotated tag for each label.

The repository is bare, below the estate's working folder, and written by git-fast-import(1), as one stream
and one commit however many files there are. Devices that were not read keep the file they had.
"""

from __future__ import annotations

import hashlib
import re
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Final

from oast.archive.git import Git
from oast.errors import UsageError
from oast.files import directory_lock, make_private
from oast.spelling import spelling_hint

RUNNING: Final = "running"
STARTUP: Final = "startup"
BRANCH = "refs/heads/main"
# Tags that are no labels: the heads of the ledger's chains, as WRITER-NUMBER-DIGEST.
LEDGER_HEAD = "ledger-head/"
_LEDGER_HEAD = re.compile(rf"refs/tags/{LEDGER_HEAD}([0-9a-f]{{12}})-([0-9]{{1,12}})-([0-9a-f]{{64}})")
# Precedes the alias in the text of a tag.
ALSO = "also: "
LABEL = re.compile(r"[^\x00-\x1f\x7f]{1,100}")
# Git refuses these in the name of a reference (git-check-ref-format(1)).
_NOT_IN_TAGS = re.compile(r"[^A-Za-z0-9._/+-]+|\.\.+|^[./-]+|[./]+$|\.lock$|//+|/\.")


@dataclass(frozen=True)
class BackupEntry:
    """A point in time: the `label`, if it has one, its commit, when (seconds since 1970), and why in one
    line; `alias` is another name by which it is found."""

    label: str | None
    commit: str
    at: int
    why: str
    alias: str | None = None

    @property
    def when(self) -> str:
        """The same point as text (RFC 3339, UTC)."""
        return datetime.fromtimestamp(self.at, UTC).isoformat(timespec="seconds")


def backup_file(kind: str, device: str) -> str:
    """Where the configuration of a device stands in the archive."""
    return f"{kind}/{device}.txt"


class Archive:
    """The archive in `folder`. Every method raises StateError when Git is missing or fails."""

    def __init__(self, folder: Path, environment: Mapping[str, str]) -> None:
        self._folder = folder
        self._git = Git(folder, environment)

    def prepare(self) -> None:
        """Make it, if it is not there yet. Raises StateError, OSError."""
        if (self._folder / "HEAD").exists():
            return
        make_private(self._folder)
        self._git.run("init", "--quiet", "--bare", "--initial-branch=main")

    def blobs(self, commit: str = BRANCH) -> dict[str, str]:
        """By file, the name of its content at a point in time."""
        if commit == BRANCH:
            head = self._ref(BRANCH)
            if head is None:
                return {}
            commit = head
        found = {}
        for entry in self._git.run("ls-tree", "-r", "-z", commit).split("\0"):
            if entry:
                head, _, file = entry.partition("\t")
                found[file] = head.split()[2]
        return found

    def commit(
        self,
        files: Mapping[str, bytes],
        why: str,
        who: str,
        label: str | None = None,
        alias: str | None = None,
        note: str | None = None,
    ) -> str | None:
        """Keep `files`. Returns the commit, or None when there was nothing new to keep. With `label`, the
        point in time gets a tag, even when nothing is new; it is also found by its `alias`. A label that is
        taken and has an alias gets that alias appended. A `note` goes into the commit message.

        Raises StateError, UsageError for a label that is invalid or taken, and OSError.
        """
        self.prepare()
        with directory_lock(self._folder):
            if (
                label is not None
                and alias is not None
                and self._ref(f"refs/tags/{label_tag(label)}") is not None
            ):
                label = f"{label} ({alias})"
            if label is not None:
                self.need_free(label)
            there = self.blobs()
            new = {file: data for file, data in sorted(files.items()) if there.get(file) != _blob(data)}
            if not there and not new:
                return None
            message = why if note is None else f"{why}\n\n{note}"
            parts = self._stream(new, message, who, bool(there)) if new else []
            if label is not None:
                parts += self._tag(label, why, alias, who, BRANCH if new else f"{BRANCH}^0")
            stream = b"".join(parts)
            if stream:
                self._git.run("fast-import", "--quiet", "--date-format=raw", given=stream)
            return self._ref(BRANCH) if new else None

    def _stream(self, files: Mapping[str, bytes], why: str, who: str, follows: bool) -> list[bytes]:
        parts = [f"commit {BRANCH}\ncommitter {_person(who)}\n".encode(), _data(why.encode())]
        if follows:
            parts.append(f"from {BRANCH}^0\n".encode())
        for file, data in files.items():
            parts += [f"M 100644 inline {_quoted(file)}\n".encode(), _data(data)]
        return parts

    def _tag(self, label: str, why: str, alias: str | None, who: str, point: str) -> list[bytes]:
        head = f"tag {label_tag(label)}\nfrom {point}\ntagger {_person(who)}\n".encode()
        also = f"\n\n{ALSO}{alias}" if alias is not None else ""
        return [head, _data(f"{label}\n\n{why}{also}".encode())]

    def need_free(self, label: str) -> None:
        """Raises UsageError for a label that is taken, or that cannot be one."""
        if (
            not LABEL.fullmatch(label)
            or not label_tag(label)
            or label in (RUNNING, STARTUP)
            or label_tag(label).startswith(LEDGER_HEAD)
        ):
            raise UsageError(
                f"'{label}' is not a valid label", hint="use a few words, such as 'before DNS update'"
            )
        if self._ref(f"refs/tags/{label_tag(label)}") is not None:
            taken = next(
                (
                    kept.label
                    for kept in self.labels()
                    if kept.label is not None and label_tag(kept.label) == label_tag(label)
                ),
                label,
            )
            if taken != label:
                message = (
                    f"the label '{label}' differs from '{taken}' only in spelling; both would be the Git"
                    f" tag {label_tag(label)}"
                )
                raise UsageError(message, hint="choose a label with other letters or digits")
            raise UsageError(f"the label '{label}' exists already", hint="choose another label")

    def _ref(self, name: str) -> str | None:
        """What a reference points to, from Git's own files (gitrepository-layout(5)): asking Git would take
        longer than the rest."""
        try:
            return (self._folder / name).read_text(encoding="ascii").strip()
        except (OSError, UnicodeDecodeError):
            pass
        try:
            packed = (self._folder / "packed-refs").read_text(encoding="utf-8").splitlines()
        except (OSError, UnicodeDecodeError):
            return None
        return next((line.split(" ")[0] for line in packed if line.endswith(f" {name}")), None)

    def labels(self) -> list[BackupEntry]:
        """The points in time that have a label, the newest last."""
        if not (self._folder / "HEAD").exists():
            return []
        shape = (
            "%(refname)%00%(*objectname)%00%(taggerdate:unix)%00%(contents:subject)%00%(contents:body)%00%01"
        )
        lines = self._git.run("for-each-ref", "--sort=taggerdate", f"--format={shape}", "refs/tags").split(
            "\x01"
        )
        found = []
        for line in lines:
            if line.strip() and not line.strip("\n").startswith(f"refs/tags/{LEDGER_HEAD}"):
                _, commit, at, label, why, *_ = line.strip("\n").split("\0")
                lines = why.strip().split("\n")
                alias = (
                    lines[-1].removeprefix(ALSO)
                    if len(lines) > 2 and not lines[-2] and lines[-1].startswith(ALSO)
                    else None
                )
                found.append(BackupEntry(label, commit, int(at), lines[0], alias))
        return found

    def history(self, files: Sequence[str] = ()) -> list[BackupEntry]:
        """Every commit, the newest last; or those that changed one of `files`."""
        if not self.blobs():
            return []
        out = self._git.run("log", "--reverse", "--format=%H%x00%ct%x00%s", BRANCH, "--", *files)
        return [
            BackupEntry(None, commit, int(at), why)
            for commit, at, why in (line.split("\0") for line in out.splitlines())
        ]

    def last(self, files: Sequence[str]) -> dict[str, BackupEntry]:
        """The newest commit that changed each of `files`, of those that are there."""
        if not self.blobs():
            return {}
        found: dict[str, BackupEntry] = {}
        expected = set(files)
        kept: BackupEntry | None = None
        for line in self._git.run(
            "log", "--name-only", "--no-renames", "--format=%x00%H%x00%ct%x00%s", BRANCH
        ).splitlines():
            if line.startswith("\0"):
                _, commit, at, why = line.split("\0", 3)
                kept = BackupEntry(None, commit, int(at), why)
            elif kept is not None and line in expected and line not in found:
                found[line] = kept
        return found

    def point(self, word: str) -> BackupEntry:
        """Return the point in time of a label or a commit. Raises UsageError when it does not exist."""
        labels = self.labels()
        for names in (lambda kept: (kept.label,), lambda kept: (label_tag(kept.label or ""), kept.alias)):
            for kept in reversed(labels):
                if word in names(kept):
                    return kept
        if re.fullmatch(r"[0-9a-f]{7,40}", word):
            for kept in self.history():
                if kept.commit.startswith(word):
                    return kept
        known = [kept.label for kept in labels if kept.label is not None]
        raise UsageError(
            f"unknown label '{word}'",
            hint=spelling_hint(word, known) if known else "create one with: oast backup --label LABEL",
        )

    def contents(self, commit: str, files: Sequence[str]) -> dict[str, bytes]:
        """Those of `files` that there were at a point in time."""
        blobs = self.blobs(commit)
        asked = [file for file in files if file in blobs]
        if not asked:
            return {}
        data = self._git.output(
            "cat-file", "--batch", given="".join(f"{blobs[file]}\n" for file in asked).encode()
        )
        found = {}
        for file in asked:
            head, _, data = data.partition(b"\n")
            size = int(head.split()[2])
            found[file], data = data[:size], data[size + 1 :]
        return found

    def anchor(self, writer: str, number: int, digest: str, who: str) -> None:
        """Record the head of a chain of the ledger as a tag. Raises StateError."""
        if self._ref(BRANCH) is None:
            return
        name = f"{LEDGER_HEAD}{writer}-{number}-{digest}"
        text = _data(f"entry {number} of changes/ledger-{writer}.jsonl".encode())
        head = f"tag {name}\nfrom {BRANCH}^0\ntagger {_person(who)}\n".encode()
        self._git.run("fast-import", "--quiet", "--date-format=raw", given=head + text)

    def anchors(self, remote: str | None = None) -> list[tuple[str, int, str]]:
        """The heads of the ledger's chains that were recorded here, or in `remote`: writer, number and
        digest. Raises StateError."""
        if remote is not None:
            named = self._git.run("ls-remote", "--refs", remote, f"refs/tags/{LEDGER_HEAD}*")
        elif (self._folder / "HEAD").exists():
            named = self._git.run("for-each-ref", "--format=%(refname)", f"refs/tags/{LEDGER_HEAD}")
        else:
            return []
        return [(writer, int(number), digest) for writer, number, digest in _LEDGER_HEAD.findall(named)]

    def push(self, remote: str) -> None:
        """Everything to `remote`. Raises StateError."""
        self._git.run("push", "--quiet", remote, f"{BRANCH}:{BRANCH}", "refs/tags/*:refs/tags/*")


def label_tag(label: str) -> str:
    """The name of the tag of a label."""
    return _NOT_IN_TAGS.sub("-", label).strip("-./")


def _blob(data: bytes) -> str:
    """The name that Git gives to a content."""
    return hashlib.sha1(b"blob %d\0" % len(data) + data, usedforsecurity=False).hexdigest()


def _data(data: bytes) -> bytes:
    return b"data %d\n%s\n" % (len(data), data)


def _person(who: str) -> str:
    name = re.sub(r"[<>\n\x00]", "", who).strip() or "nobody"
    return f"{name} <{name if '@' in name else ''}> {int(time.time())} +0000"


def _quoted(file: str) -> str:
    return '"' + file.replace("\\", "\\\\").replace('"', '\\"') + '"'
