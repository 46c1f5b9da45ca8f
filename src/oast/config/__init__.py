"""Configuration trees: parsing and printing, canonical form, edits, ownership, and the commands that turn one
tree into another."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.config.commands import Command as Command, commands_of as commands_of
    from oast.config.dependency_order import (
        NoDependencyOrder as NoDependencyOrder,
        in_dependency_order as in_dependency_order,
    )
    from oast.config.diff_text import Counts as Counts, ViewLine as ViewLine, counts as counts, view as view
    from oast.config.documents import (
        edits_document as edits_document,
        tree_document as tree_document,
        tree_from_document as tree_from_document,
    )
    from oast.config.edits import (
        Edit as Edit,
        RetainedStatement as RetainedStatement,
        apply_edits as apply_edits,
        difference as difference,
        secrets_below as secrets_below,
        secrets_in as secrets_in,
        split_removals as split_removals,
    )
    from oast.config.file_edits import EditedText as EditedText, edit_file as edit_file
    from oast.config.globs import glob_matches as glob_matches
    from oast.config.indented_syntax import (
        TAB as TAB,
        IndentedSyntax as IndentedSyntax,
        TextProblem as TextProblem,
        accept_listed as accept_listed,
        read_tree as read_tree,
        tree_as_listed as tree_as_listed,
        tree_of_device as tree_of_device,
    )
    from oast.config.line import Line as Line, format_line as format_line
    from oast.config.ownership import (
        Pattern as Pattern,
        Scope as Scope,
        owner_of as owner_of,
        pattern_of as pattern_of,
        patterns_overlap as patterns_overlap,
    )
    from oast.config.referential_integrity import (
        integrity_errors as integrity_errors,
        missing_parts as missing_parts,
    )
    from oast.config.secret_fingerprints import (
        masked_lines as masked_lines,
        require_known_secrets as require_known_secrets,
        restore_secrets as restore_secrets,
        secrets_by_fingerprint as secrets_by_fingerprint,
        strip_secrets as strip_secrets,
        withhold_edits as withhold_edits,
        withhold_tree as withhold_tree,
        withhold_unknown as withhold_unknown,
    )
    from oast.config.syntaxes import syntax_of as syntax_of
    from oast.config.tree import (
        Node as Node,
        Path as Path,
        canonical as canonical,
        join_trees as join_trees,
        root_of as root_of,
    )
    from oast.config.xml_edits import config_parts as config_parts, whole_config as whole_config
    from oast.config.xml_syntax import XmlSyntax as XmlSyntax

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "commands": (
            "Command",
            "commands_of",
        ),
        "dependency_order": (
            "NoDependencyOrder",
            "in_dependency_order",
        ),
        "diff_text": (
            "Counts",
            "ViewLine",
            "counts",
            "view",
        ),
        "documents": (
            "edits_document",
            "tree_document",
            "tree_from_document",
        ),
        "edits": (
            "apply_edits",
            "difference",
            "Edit",
            "RetainedStatement",
            "secrets_below",
            "secrets_in",
            "split_removals",
        ),
        "file_edits": (
            "EditedText",
            "edit_file",
        ),
        "globs": ("glob_matches",),
        "indented_syntax": (
            "IndentedSyntax",
            "TAB",
            "TextProblem",
            "accept_listed",
            "read_tree",
            "tree_as_listed",
            "tree_of_device",
        ),
        "line": (
            "Line",
            "format_line",
        ),
        "ownership": (
            "Pattern",
            "Scope",
            "owner_of",
            "pattern_of",
            "patterns_overlap",
        ),
        "referential_integrity": (
            "integrity_errors",
            "missing_parts",
        ),
        "secret_fingerprints": (
            "masked_lines",
            "require_known_secrets",
            "restore_secrets",
            "secrets_by_fingerprint",
            "strip_secrets",
            "withhold_edits",
            "withhold_tree",
            "withhold_unknown",
        ),
        "syntaxes": ("syntax_of",),
        "tree": (
            "Node",
            "Path",
            "canonical",
            "join_trees",
            "root_of",
        ),
        "xml_edits": (
            "config_parts",
            "whole_config",
        ),
        "xml_syntax": ("XmlSyntax",),
    },
)
