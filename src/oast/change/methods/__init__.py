"""How a platform takes a change: one module for each delivery method. None believes anything but what the
device shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.change.methods.base import ChangeRequest as ChangeRequest, DeliveryMethod as DeliveryMethod
    from oast.change.methods.file_edit import FileReplaceMethod as FileReplaceMethod
    from oast.change.methods.selection import method_for as method_for

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "base": ("ChangeRequest", "DeliveryMethod"),
        "file_edit": ("FileReplaceMethod",),
        "selection": ("method_for",),
    },
)
