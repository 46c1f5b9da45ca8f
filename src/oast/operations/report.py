"""A change for other programs: Markdown for a merge request, JUnit XML for the pipeline."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Any
from xml.etree import ElementTree

from oast.errors import UsageError
from oast.operations.changes import Change, Changes, recorded_plan
from oast.operations.documents import device_lines

# A summary is read; the whole of it is in the record.
LINES_AT_MOST = 400
NAMED = 8


def markdown(changes: Changes, change: Change) -> str:
    """Return a change as Markdown: its description, the outcome of every device, and its edits. Raises
    StateError."""
    told = [f"# {_text(change.reason)}", ""]
    facts = [("state", change.state), ("author", change.author)]
    facts += [("ticket", change.ticket)] if change.ticket else []
    facts += [("origin", change.origin)] if change.origin else []
    facts += [
        (entry.kind, f"{entry.at[:19]} UTC by {entry.said['author']}")
        for entry in change.entries
        if "author" in entry.said
    ]
    rows = (f"| {name} | {_text(str(value))} |" for name, value in facts)
    told += ["| | |", "|---|---|", f"| change | {_code(change.name)} |", *rows, ""]
    outcomes = _final(changes, change)
    if outcomes:
        told += ["| device | result | added | removed | seconds | |", "|---|---|--:|--:|--:|---|"]
        told += [
            f"| {_text(d['device'])} | {_result(d)} | {d['added']} | {d['removed']} | {d['seconds']:.1f} |"
            f" {_text(d['reason'] or '')} |"
            for d in outcomes.values()
        ]
        told.append("")
    groups: dict[tuple[str, ...], list[str]] = {}
    for name, device in recorded_plan(changes, change).devices.items():
        groups.setdefault(tuple(device_lines(device)), []).append(name)
    left = LINES_AT_MOST
    for lines, names in groups.items():
        if lines and left > 0:
            more = f" and {len(names) - NAMED} more" if len(names) > NAMED else ""
            shown = [_one_line(line) for line in lines[:left]]
            fence = _fence(shown)
            told += [f"**{_text(', '.join(names[:NAMED]) + more)}**", "", f"{fence}diff", *shown, fence, ""]
            left -= len(lines)
    if left <= 0:
        told.append(f"and more: {_code(f'oast change show {change.name}')}")
    return "\n".join(told).rstrip() + "\n"


def _text(words: str) -> str:
    """Return text that stays plain on one line of Markdown: no markup, no HTML, no link, and no mention."""
    line = defused(" ".join(words.split())).replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
    for sign in "\\`*_[]|#~$":
        line = line.replace(sign, f"\\{sign}")
    return line


# Prefixes of a name, a number or a host that would make a link or a mention of it: people (@), issues (#),
# merge requests (!) and the like, addresses with a scheme, and hosts that begin with www.
_LINKING = re.compile(r"(?<=[@#!~%^&$])(?=\w)|(?<=:)(?=//)|(?<=mailto:)(?=\w)|(?i:(?<=\bwww))(?=\.)")
# What looks like the signs of HTML.
_BRACKETS = {
    ord("<"): "\N{SINGLE LEFT-POINTING ANGLE QUOTATION MARK}",
    ord(">"): "\N{SINGLE RIGHT-POINTING ANGLE QUOTATION MARK}",
}
# Shows nothing, and ends a word.
_NOTHING = "\N{ZERO WIDTH SPACE}"


def defused(text: str) -> str:
    """`text` in which neither a forge nor a mail program finds a mention or a link."""
    return _LINKING.sub(_NOTHING, text)


def _code(text: str) -> str:
    """A code span; what it holds ends neither the span nor the line."""
    return f"`{' '.join(text.replace('`', chr(39)).replace('|', '¦').split())}`"


def _fence(lines: Iterable[str]) -> str:
    """A fence that none of `lines` ends: longer than every run of its sign."""
    longest = max((len(run) for line in lines for run in re.findall(r"`+", line)), default=0)
    return "`" * max(3, longest + 1)


def _one_line(text: str) -> str:
    return " ".join(text.splitlines())


def _result(device: Mapping[str, Any]) -> str:
    return f"{device['state']} ({device['cause']})" if device["cause"] != "none" else f"{device['state']}"


def _final(changes: Changes, change: Change) -> dict[str, Mapping[str, Any]]:
    """The final outcome of each device."""
    return {device["device"]: device for outcome in changes.outcomes(change) for device in outcome["devices"]}


def junit(changes: Changes, change: Change) -> str:
    """Return the outcome of every device as JUnit XML: a test case for each. Raises UsageError for a change
    that was not delivered, and StateError."""
    outcomes = _final(changes, change)
    if not outcomes:
        raise UsageError(f"{change.name} was not delivered", hint="only delivered changes have a report")
    bad = [d for d in outcomes.values() if d["cause"] != "none"]
    suite = ElementTree.Element(
        "testsuite",
        name=printable(change.reason),
        tests=str(len(outcomes)),
        failures=str(sum(1 for d in bad if d["cause"] != "held")),
        skipped=str(sum(1 for d in bad if d["cause"] == "held")),
        errors="0",
        time=f"{sum(d['seconds'] for d in outcomes.values()):.3f}",
        timestamp=change.at[:19],
    )
    for device in outcomes.values():
        case = ElementTree.SubElement(
            suite, "testcase", classname=printable(change.name), name=printable(device["device"])
        )
        case.set("time", f"{device['seconds']:.3f}")
        if device["cause"] == "held":
            ElementTree.SubElement(case, "skipped", message=printable(device["reason"] or "held back"))
        elif device["cause"] != "none":
            failure = ElementTree.SubElement(
                case, "failure", message=printable(device["reason"] or device["cause"]), type=device["state"]
            )
            failure.text = printable("\n".join(_why(device)))
    ElementTree.indent(suite)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(suite, encoding="unicode") + "\n"


def _why(device: Mapping[str, Any]) -> Sequence[str]:
    return [line for line in (device["reason"], device["hint"], *device["failed_checks"]) if line]


def printable(text: str) -> str:
    """Return text that XML can hold (XML 1.0, section 2.2), without links, mentions and HTML, for programs
    that show it as a page."""
    text = defused(text.translate(_BRACKETS))
    return "".join(
        (
            sign
            if sign in "\t\n"
            or " " <= sign < "\x7f"
            or "\xa0" <= sign < "\ud800"
            or "\ue000" <= sign <= "\ufffd"
            or sign > "\uffff"
            else "?"
        )
        for sign in text
    )
