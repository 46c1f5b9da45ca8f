"""Inventories that are kept elsewhere: fetched, mapped and written into the estate."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.sources.mapping import (
        MappingResult as MappingResult,
        map_records as map_records,
        next_page as next_page,
        record_name as record_name,
    )
    from oast.sources.pages import Fetching as Fetching, Page as Page
    from oast.sources.service import Service as Service

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "mapping": ("MappingResult", "map_records", "next_page", "record_name"),
        "pages": ("Fetching", "Page"),
        "service": ("Service",),
    },
)
