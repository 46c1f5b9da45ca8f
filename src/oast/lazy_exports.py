"""The public face of a package whose modules are imported only when a name of theirs is asked for."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from importlib import import_module
from typing import Any


def lazy_exports(
    package: str, exports: Mapping[str, Sequence[str]]
) -> tuple[Callable[[str], Any], Callable[[], list[str]]]:
    """The `__getattr__` and `__dir__` (PEP 562) of `package`, which exports names by the module that defines
    them.

    A name that equals its module exports the module itself.
    """
    modules = {name: module for module, names in exports.items() for name in names}

    def get(name: str) -> Any:
        if name not in modules:
            raise AttributeError(f"the package '{package}' exports no '{name}'")
        module = import_module(f"{package}.{modules[name]}")
        return module if name == modules[name] else getattr(module, name)

    return get, lambda: sorted(modules)
