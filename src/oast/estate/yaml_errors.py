"""Messages for mistakes in YAML: the parser's finding, compared with the lines as they are written."""

from __future__ import annotations

import re
from collections.abc import Sequence

import yaml

from oast.errors import EstateError
from oast.records import Place, Problem

_NAME = r"[A-Za-z_][\w.-]*"
_LACKS_SPACE = re.compile(rf"^\s*(?:- +)*({_NAME}):([^\s:/].*)$")
_EXPRESSION = re.compile(r"(?:^\s*(?:- +)*|:\s+|[\[,]\s*)(\{[{%].*?[}%]\}.*?)\s*$")
_BEHIND_QUOTE = re.compile(
    rf"""^\s*(?:- +)*(?:{_NAME}:\s+)?(?:"(?:[^"\\]|\\.)*"|'(?:[^']|'')*')\s*[^\s#,:\]}}]"""
)
_CONTROL = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x84\x86-\x9f\ufffe\uffff]")

YamlErrorText = tuple[int, str, str]
"""The line (from 1), what is wrong, and the likely fix."""


def describe_yaml_error(error: yaml.YAMLError, text: str, file: str) -> EstateError:
    """The error of the parser for `text` of `file`, with the line as written and a likely fix."""
    lines = yaml_lines(text)
    if isinstance(error, yaml.MarkedYAMLError):
        line, message, hint = _cause(error, lines)
    else:
        line, message, hint = _unreadable(lines, error)
    written = lines[line - 1].rstrip() if line <= len(lines) else ""
    return EstateError.of([Problem(message, Place(file, line), hint, excerpt=_visible(written) or None)])


def yaml_lines(text: str) -> list[str]:
    """The lines as YAML counts them (YAML 1.1, section 5.4)."""
    return re.split("\r\n|[\n\r\x85\u2028\u2029]", text)


def _visible(line: str) -> str:
    return _CONTROL.sub(lambda found: f"\\x{ord(found[0]):02x}", line.replace("\t", "\\t"))


def lacks_space(text: object) -> str | None:
    """How to write `name:value` so that it is a name and a value; None when `text` is nothing of the kind."""
    match = _LACKS_SPACE.match(text) if isinstance(text, str) else None
    return f"a space is missing after the ':'; write '{match[1]}: {match[2]}'" if match else None


def expression_in(line: str) -> str | None:
    """Return how to write the expression that a value on `line` begins with; None when there is none."""
    match = _EXPRESSION.search(line)
    if match is None:
        return None
    before, text = line[: match.start(1)], match[1]
    if before.count("{") > before.count("}") or before.count("[") > before.count("]"):
        # In a mapping or list on one line, its end is not a part of the value.
        end = text.rindex("}}") + 2 if "}}" in text else len(text)
        text = text[:end] + re.split(r"[,}\]]", text[end:])[0].rstrip()
    quote = "'" if '"' in text else '"'
    return f"put all of it in quotes: {quote}{text}{quote}"


def _unreadable(lines: Sequence[str], error: yaml.YAMLError) -> YamlErrorText:
    for number, line in enumerate(lines, 1):
        found = _CONTROL.search(line)
        if found:
            return (
                number,
                f"control character U+{ord(found[0]):04X}",
                "remove it; it may come from pasted text",
            )
    return 1, f"the file is not valid YAML: {error}", "remove characters that are not allowed here"


def _cause(error: yaml.MarkedYAMLError, lines: Sequence[str]) -> YamlErrorText:
    at = error.problem_mark or error.context_mark
    line = min(at.line + 1, len(lines)) if at else 1
    begun = min(error.context_mark.line + 1, len(lines)) if error.context_mark else line
    return (
        _at_one_line(lines, (line, begun, line - 1))
        or _opened(error, lines, begun)
        or _misplaced(error, lines[line - 1], line, begun)
        or (line, f"this is not valid YAML: {error.problem}", "check the line above, too")
    )


def _at_one_line(lines: Sequence[str], numbers: Sequence[int]) -> YamlErrorText | None:
    """What a single line shows by itself; `numbers` are the lines to look at, the likeliest first."""
    for number in numbers:
        written = lines[number - 1] if 1 <= number <= len(lines) else ""
        if "\t" in written[: len(written) - len(written.lstrip())]:
            return number, "the indentation contains a tab", "use spaces; YAML does not allow tabs there"
        quoted = expression_in(written)
        if quoted is not None:
            return number, "a value cannot begin with '{{' or '{%' in YAML: that opens a mapping", quoted
        spaced = lacks_space(written)
        if spaced is not None:
            return number, *_split(spaced)
    return None


def _split(spaced: str) -> tuple[str, str]:
    message, _, hint = spaced.partition("; ")
    return message, hint


def _opened(error: yaml.MarkedYAMLError, lines: Sequence[str], begun: int) -> YamlErrorText | None:
    """Report a quote or bracket that is not closed where it opens, not where the parser gave up."""
    problem, context = error.problem or "", error.context or ""
    if "quoted scalar" in context:
        if "escape" in problem and error.problem_mark:
            line = min(error.problem_mark.line + 1, len(lines))
            wrong = lines[line - 1][error.problem_mark.column :][:2]
            return (
                line,
                f"'{wrong}' is not a valid escape inside double quotes",
                "use single quotes, or write '\\\\' for '\\'",
            )
        return begun, "a quote is not closed", "add the closing quote"
    if "flow" in context and error.context_mark:
        bracket = lines[begun - 1][error.context_mark.column :][:1]
        return (
            begun,
            f"'{bracket}' is not closed",
            "close it, or put the text in quotes",
        )
    return None


def _misplaced(error: yaml.MarkedYAMLError, written: str, line: int, begun: int) -> YamlErrorText | None:
    problem = error.problem or ""
    if "mapping values are not allowed" in problem:
        if re.search(r":\s.*:(\s|$)", written):
            return line, "this line has a second ':'", "put the text after the first ':' in quotes"
        message = "this line is indented too far"
        return line, message, "align it with the lines around it, or complete the line above"
    if "cannot start any token" in problem and error.problem_mark:
        character = written[error.problem_mark.column :][:1]
        return line, f"text cannot begin with '{character}' in YAML", "put it in quotes"
    if "alias" in problem or "anchor" in problem:
        return line, "text cannot begin with '*' or '&' in YAML", "put the text in quotes"
    if "another document" in problem or "<document start>" in problem:
        return (
            line,
            "only one YAML document per file",
            "remove the line, or split the file",
        )
    if "expected ':'" in problem or "simple key" in problem:
        return begun, "missing ':' after the name", "write 'name: value', with a space after the colon"
    if "expected '-' indicator" in problem:
        return (
            line,
            "this line must begin with '- ', like the list items above",
            "add '- ', or fix the indentation",
        )
    if _BEHIND_QUOTE.match(written):
        return (
            line,
            "text follows the closing quote",
            "put all of it in quotes; write a quote inside '...' twice: ''",
        )
    if sum(map(written.count, "]}")) > sum(map(written.count, "[{")):
        return line, "']' or '}' without an opening bracket", "remove it, or put the text in quotes"
    if "<block end>" in problem or "did not find expected key" in problem:
        return (
            line,
            "the indentation does not match the lines above",
            "align this line with the lines it belongs to",
        )
    return None
