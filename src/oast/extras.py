"""Optional dependencies: what a part of Oast needs in addition, and the command that installs it."""

from __future__ import annotations

from importlib.util import find_spec

from oast.errors import UsageError

EXTRAS = {"plot": ("matplotlib",), "sim": ("networkx", "radix")}
"""The modules that each extra of the package brings (`pip install 'oast[EXTRA]'`)."""


def require_extra(extra: str, what: str) -> None:
    """Require the modules of an extra; `what` needs them. Raises UsageError that names the command to install
    them."""
    missing = [name for name in EXTRAS[extra] if find_spec(name) is None]
    if missing:
        are = "is" if len(missing) == 1 else "are"
        raise UsageError(
            f"{what} needs {' and '.join(missing)}, which {are} not installed",
            hint=f"install with: pip install 'oast[{extra}]'",
        )
