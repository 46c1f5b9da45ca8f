"""Platform definitions: grammar, spelling, session, delivery and readings of each network
operating system."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.platforms.definition import (
        CandidateCommands as CandidateCommands,
        CliDialect as CliDialect,
        EditSpelling as EditSpelling,
        FileCommands as FileCommands,
        Netconf as Netconf,
        Platform as Platform,
        PromptAnswer as PromptAnswer,
        ReadingDefinition as ReadingDefinition,
        ScheduledCommands as ScheduledCommands,
        StatePattern as StatePattern,
        TimerCommands as TimerCommands,
    )
    from oast.platforms.draft_grammar import (
        DraftStatement as DraftStatement,
        roles_of as roles_of,
        statements_of as statements_of,
    )
    from oast.platforms.draft_text import (
        Writing as Writing,
        draft_lines as draft_lines,
        writing_of as writing_of,
    )
    from oast.platforms.from_yang import (
        ModuleText as ModuleText,
        platform_of as platform_of,
        texts_in as texts_in,
    )
    from oast.platforms.grammar import (
        NO_SECRETS as NO_SECRETS,
        Grammar as Grammar,
        with_secrets as with_secrets,
    )
    from oast.platforms.load import (
        NAME as NAME,
        SYNTAXES as SYNTAXES,
        Platforms as Platforms,
        load_platform as load_platform,
        transport_of as transport_of,
    )
    from oast.platforms.matching import ArgumentSlot as ArgumentSlot, converted as converted
    from oast.platforms.netconf_tables import steps as steps
    from oast.platforms.reading_schema import (
        READINGS as READINGS,
        TEXT as TEXT,
        FieldType as FieldType,
        ValueKind as ValueKind,
    )
    from oast.platforms.statements import (
        Leafref as Leafref,
        Module as Module,
        Rule as Rule,
        Statement as Statement,
        UnknownStatement as UnknownStatement,
    )
    from oast.platforms.types import (
        ODD as ODD,
        ValueType as ValueType,
        WrongValue as WrongValue,
        check_secret as check_secret,
        named_odd as named_odd,
        quoted as quoted,
    )

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "definition": (
            "CandidateCommands",
            "CliDialect",
            "EditSpelling",
            "FileCommands",
            "Netconf",
            "Platform",
            "PromptAnswer",
            "ReadingDefinition",
            "ScheduledCommands",
            "StatePattern",
            "TimerCommands",
        ),
        "draft_grammar": ("DraftStatement", "roles_of", "statements_of"),
        "draft_text": ("Writing", "draft_lines", "writing_of"),
        "from_yang": ("ModuleText", "platform_of", "texts_in"),
        "grammar": ("Grammar", "NO_SECRETS", "with_secrets"),
        "load": ("NAME", "Platforms", "SYNTAXES", "load_platform", "transport_of"),
        "matching": ("ArgumentSlot", "converted"),
        "netconf_tables": ("steps",),
        "reading_schema": ("FieldType", "READINGS", "TEXT", "ValueKind"),
        "statements": ("Leafref", "Module", "Rule", "Statement", "UnknownStatement"),
        "types": ("ODD", "ValueType", "WrongValue", "check_secret", "named_odd", "quoted"),
    },
)
