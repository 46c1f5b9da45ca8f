"""What a device ran before it was touched, kept in its own words."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from oast.config.indented import IndentedSyntax, printed
from oast.errors import DeviceError
from oast.files import write_whole
from oast.records import Fingerprints

NOTE = "secrets are masked: this shows what was there, and cannot be restored as it is"


@dataclass(frozen=True)
class Backup:
    """One device's backup of one run. `mask` hides secrets; without it, the backup is what the device said, for the owner alone."""

    path: Path
    syntax: IndentedSyntax
    mask: Fingerprints | None

    def write(self, running: str) -> None:
        """Keep `running`, whole or not at all. Raises DeviceError."""
        text = running
        if self.mask is not None:
            text = f"{self.syntax.comment} {NOTE}\n{printed(self.syntax.parse(running).tree, self.mask)}"
        try:
            write_whole(self.path, text, mode=0o600)
        except OSError as error:
            raise DeviceError(f"its backup cannot be written ({error.strerror}): it was not touched") from None
