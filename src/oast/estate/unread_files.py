"""Files and folders that look like parts of an estate, and that Oast does not read."""

from __future__ import annotations

import difflib
from collections.abc import Collection, Iterator
from pathlib import Path

from oast.containment import leads_out
from oast.errors import EstateError
from oast.estate.yaml_text import YAML_SUFFIXES
from oast.records import Place, Problem
from oast.spelling import closest_match
from oast.text_file import read_text_file, special_file

KIND = "unread"
CSV, TEMPLATE, PLATFORM = (".csv",), (".j2",), (".toml",)
# The folders of an estate, each with the endings of the files that are read there.
FOLDERS = {
    "inventory": (*YAML_SUFFIXES, *CSV),
    "values": YAML_SUFFIXES,
    "values/devices": YAML_SUFFIXES,
    "templates": (),
    "checks": YAML_SUFFIXES,
    "policies": YAML_SUFFIXES,
    "platforms": PLATFORM,
}
FILES = ("oast.toml", "intent.yaml", "intent.yml", "network.yaml", "network.yml", "known_hosts")
# Other folders that Oast uses.
OTHERS = (".oast", "changes", "startup")
# From this similarity on (0 to 1), one name is taken for a misspelling of the other.
ALIKE = 0.85
# Where a file of some ending belongs.
HOMES = {".j2": "templates/PLATFORM", ".toml": "platforms", ".csv": "inventory"}


def find_unread_files(folder: Path, platforms: Collection[str]) -> Iterator[Problem]:
    """The files and folders in the estate's `folder` that Oast does not read: misspelled names at the top,
    and everything unknown inside the known folders. Folders of templates have names of `platforms`."""
    known = (*FILES, *(name for name in FOLDERS if "/" not in name))
    for path in sorted(folder.iterdir()):
        name = path.name
        if name in (*known, *OTHERS) or name.startswith(".git"):
            continue
        nearest = next((one for one in known if _looks_alike(name, one)), None)
        if nearest is not None:
            move = (folder / nearest).exists()
            hint = "remove it, or move what it holds into" if move else "rename it to"
            yield _unread(name, f"{hint} '{nearest}'", is_folder=path.is_dir())
    for name, suffixes in FOLDERS.items():
        path = folder / name
        if path.exists() and not path.is_dir():
            yield Problem(f"'{name}' must be a folder", Place(name), hint="remove it, or rename it")
        elif path.is_dir() and not leads_out(path, name):
            yield from (_templates(path, platforms) if name == "templates" else _folder(path, name, suffixes))


def _looks_alike(name: str, known: str) -> bool:
    """Whether two names differ by case, by an ending, by a plural or by a letter or two."""
    one, other = name.lower().lstrip("."), known.lower()
    if one.removesuffix("y") + "ies" == other or (Path(one).stem == Path(other).stem and "." in one):
        return True
    return difflib.SequenceMatcher(None, one, other).ratio() >= ALIKE


def _unread(file: str, hint: str, *, is_folder: bool = False) -> Problem:
    what = "folder" if is_folder else "file"
    return Problem(f"this {what} is not read", Place(file), hint=hint, kind=KIND)


def _is_note(path: Path) -> bool:
    """Whether a file is meant for people or for Git."""
    return path.name.startswith(".git") or path.suffix == ".md" or path.stem.upper() == "README"


def _folder(folder: Path, name: str, suffixes: tuple[str, ...]) -> Iterator[Problem]:
    for path in sorted(folder.iterdir()):
        file = f"{name}/{path.name}"
        if path.is_dir():
            if file not in FOLDERS:
                nearest = "devices" if name == "values" and closest_match(path.name, ["devices"]) else None
                hint = f"rename it to '{nearest}'" if nearest else f"move its files into {name}/"
                yield _unread(file, hint, is_folder=True)
        elif path.suffix in suffixes and not path.name.startswith("."):
            continue
        elif (kind := special_file(path)) is not None:
            message = f"this is {kind}, not a file"
            yield Problem(message, Place(file), hint="move it out of the estate")
        elif not _is_note(path):
            yield _unread(file, _hint(path, name, suffixes))


def _hint(path: Path, folder: str, suffixes: tuple[str, ...]) -> str:
    if path.name.startswith("."):
        return "remove it, or rename it without the leading dot: hidden files are not read"
    home = HOMES.get(path.suffix)
    if home is not None and not folder.startswith(home):
        return f"move it to {home}/"
    return f"rename it to '{path.stem}{suffixes[0]}', or move it out of {folder}/"


def _templates(folder: Path, platforms: Collection[str]) -> Iterator[Problem]:
    """A file that a template includes has any name; the others end with .j2."""
    for path in sorted(folder.iterdir()):
        file = f"templates/{path.name}"
        if not path.is_dir():
            if not _is_note(path):
                yield _unread(file, "move it to templates/PLATFORM/")
        elif path.name not in platforms:
            nearest = closest_match(path.name, platforms)
            hint = f"rename it to '{nearest}'" if nearest else "name it like a platform"
            yield _unread(file, hint, is_folder=True)
        elif not leads_out(path, file):
            yield from _platform_templates(path, file)


def _platform_templates(folder: Path, name: str) -> Iterator[Problem]:
    files = [path for path in sorted(folder.rglob("*")) if path.is_file() and not _is_note(path)]
    others = [path for path in files if path.suffix not in TEMPLATE or path.name.startswith(".")]
    if not others:
        return
    texts: list[str] = []
    for path in files:
        if path.suffix in TEMPLATE:
            try:
                texts.append(read_text_file(path, f"{name}/{path.relative_to(folder)}"))
            except (EstateError, FileNotFoundError):
                return  # It is reported where it is read, and may include any of the others.
    for path in others:
        if not any(path.name in text for text in texts):
            yield _unread(f"{name}/{path.relative_to(folder)}", _hint(path, name, TEMPLATE))
