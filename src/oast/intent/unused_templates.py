"""Templates that no section uses, and variables that a template declares and never uses."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from oast.errors import EstateError
from oast.estate import Device
from oast.intent.intent import IntentBuilder
from oast.records import Place, Problem
from oast.spelling import closest_match
from oast.text_file import read_text_file

KIND = "unused"
_TAKES_OTHERS = re.compile(r"\{%-?\s*(?:include|import|from|extends)\b")


def find_unused_templates(
    builder: IntentBuilder, folder: Path, devices: Sequence[Device]
) -> Iterator[Problem]:
    """The templates of the `devices`' platforms in the estate's `folder` that neither a section nor another
    template uses, and the declared variables that their template never uses."""
    sections = [use.name for use in builder.uses]
    for platform in sorted({device.platform for device in devices}):
        yield from _unused_files(folder, f"templates/{platform}", sections)
    seen: set[str] = set()
    for device in devices:
        try:
            templates = builder.templates_of(device)
        except EstateError:
            continue  # It is reported where the device is rendered.
        for template in templates:
            if template.file in seen or template.variables is None:
                continue
            seen.add(template.file)
            body = template.source.partition("#}")[2]
            if _TAKES_OTHERS.search(body):
                continue
            for name, variable in template.variables.items():
                if not re.search(rf"\b{re.escape(name)}\b", body):
                    message = f"the template never uses the variable '{name}'"
                    yield Problem(message, variable.place, "remove it, or use it", kind=KIND)


def _unused_files(folder: Path, name: str, sections: Sequence[str]) -> Iterator[Problem]:
    paths = sorted((folder / name).glob("*.j2"))
    unused = [path for path in paths if path.stem not in sections and not path.name.startswith(".")]
    if not unused:
        return
    texts: dict[Path, str] = {}
    for path in sorted((folder / name).rglob("*.j2")):
        file = str(path.relative_to(folder))
        try:
            texts[path] = read_text_file(path, file)
        except (EstateError, FileNotFoundError):
            return  # It is reported where it is read, and may include any of the others.
    for path in unused:
        if any(path.name in text for other, text in texts.items() if other != path):
            continue
        nearest = closest_match(path.stem, sections)
        hint = f"list it in intent.yaml: '- section: {path.stem}', or remove it"
        if nearest is not None and not (path.parent / f"{nearest}.j2").exists():
            hint = f"rename it to '{nearest}.j2'"
        yield Problem("no section uses this template", Place(f"{name}/{path.name}"), hint, kind=KIND)
