"""A folder of saved configurations as records: what each device is called, which platform its text is of, and
its addresses."""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from oast.config import IndentedSyntax, Node, accept_listed, syntax_of
from oast.errors import OastError, StateError
from oast.intent import addresses, interfaces, with_role
from oast.platforms import Platform, Platforms
from oast.records import Fingerprints

LARGEST = 32_000_000
# A platform must understand this share of a text to be chosen for it.
UNDERSTOOD = 0.9


def config_folder_records(folder: Path, estate: Path) -> list[dict[str, Any]]:
    """A record for each file below `folder`: `name` (the file's, without its ending), `file`, `folder`, and
    for a text that one of the estate's platforms understands `platform`, `hostname` and `interfaces`, a
    mapping of names to lists of addresses with their lengths. Raises StateError when the folder or a file
    cannot be read."""
    if not folder.is_dir():
        raise StateError(f"{folder} is not a folder")
    platforms = Platforms(estate, Fingerprints(secrets.token_bytes(32)))
    syntaxes: list[tuple[Platform, IndentedSyntax]] = []
    for name in platforms.names():
        try:
            platform = platforms.get(name)
        except OastError:
            continue  # oast lint reports its mistakes.
        syntaxes.append((platform, syntax_of(platform)))
    return [_record(path, folder, syntaxes) for path in _files(folder)]


def _files(folder: Path) -> Iterator[Path]:
    """Return the files of a folder and its subfolders, in order; hidden files are skipped."""

    def fail(error: OSError) -> None:
        raise StateError(f"cannot read {error.filename}: {error.strerror}") from None

    for top, folders, files in os.walk(folder, onerror=fail):
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        yield from (Path(top) / name for name in sorted(files) if not name.startswith("."))


def _record(path: Path, folder: Path, syntaxes: list[tuple[Platform, IndentedSyntax]]) -> dict[str, Any]:
    inner = path.relative_to(folder)
    record: dict[str, Any] = {
        "name": path.name.partition(".")[0],
        "file": str(inner),
        "folder": inner.parent.name or None,
    }
    try:
        if path.stat().st_size > LARGEST:
            return record
        text = path.read_text(encoding="utf-8")
    except UnicodeDecodeError:
        return record
    except OSError as error:
        raise StateError(f"cannot read {path}: {error.strerror}") from None
    best, tree = _platform_of(text, syntaxes)
    if best is None or tree is None:
        return record
    held = {one.name: [str(a) for _, a in addresses(best, one.node)] for one in interfaces(best, tree)}
    names = [node.statement.value for _, node in with_role(best, tree, "hostname")]
    return {**record, "platform": best.name, "hostname": names[0] if names else None, "interfaces": held}


def _platform_of(
    text: str, syntaxes: list[tuple[Platform, IndentedSyntax]]
) -> tuple[Platform | None, Node | None]:
    """The platform that understands most of a text, if that is enough, and no other understands as much."""
    found: list[tuple[float, Platform, Node]] = []
    for platform, syntax in syntaxes:
        # Path statements are a way of writing templates of a platform of XML, and never what a device lists.
        if (platform.syntax == "xml") != text.lstrip().startswith("<"):
            continue
        try:
            parsed = syntax.parse(text)
            tree = accept_listed(parsed)
        except OastError:
            continue
        nodes = [node for _, node in tree.walk()]
        known = sum(node.statement.rule.known for node in nodes)
        share = known / (len(nodes) + len(parsed.problems)) if nodes else 0.0
        if share >= UNDERSTOOD:
            found.append((share, platform, tree))
    found.sort(key=lambda one: -one[0])
    if not found or (len(found) > 1 and found[0][0] == found[1][0]):
        return None, None
    return found[0][1], found[0][2]
