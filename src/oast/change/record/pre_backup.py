"""What a device ran before it was touched, kept in its own words."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from oast.config import IndentedSyntax, masked_lines, tree_as_listed
from oast.errors import DeviceError
from oast.files import write_whole

NOTE = "secrets are masked, so this backup cannot be restored unchanged"


@dataclass(frozen=True)
class Backup:
    """One device's backup of one run. `mask` hides secrets; without it, the backup is what the device said,
    for the owner alone."""

    path: Path
    syntax: IndentedSyntax
    mask: bool

    def write(self, running: str) -> None:
        """Keep `running`, whole or not at all. Raises DeviceError."""
        text = running
        if self.mask:
            text = (
                f"{self.syntax.comment}"
                f" {NOTE}\n{self.syntax.masked(masked_lines(tree_as_listed(self.syntax, running)))}"
            )
        try:
            write_whole(self.path, text, mode=0o600)
        except OSError as error:
            raise DeviceError(
                f"cannot write its backup ({error.strerror}); nothing was sent to the device"
            ) from None


def kept_text(path: Path) -> str | None:
    """What a device ran before, as it listed it; None where that was not kept, or with its secrets masked."""
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError):
        return None
    return None if NOTE in text.partition("\n")[0] else text
