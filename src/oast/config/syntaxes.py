"""The syntax of each platform."""

from __future__ import annotations

from oast.config.brace_syntax import BraceSyntax
from oast.config.indented_syntax import IndentedSyntax
from oast.config.path_syntax import PathSyntax
from oast.config.xml_syntax import XmlSyntax
from oast.platforms import Platform

SYNTAXES: dict[str, type[IndentedSyntax]] = {
    "indented": IndentedSyntax,
    "braces": BraceSyntax,
    "paths": PathSyntax,
    "xml": XmlSyntax,
}


def syntax_of(platform: Platform) -> IndentedSyntax:
    """What reads and writes the configuration text of `platform`."""
    return SYNTAXES[platform.syntax](platform)
