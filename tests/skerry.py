"""A made-up router's own understanding of its command line: regular expressions and dictionaries, no code of the tool."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from hypothesis import strategies as st


class Refused(Exception):
    """A line the router does not carry out."""


@dataclass
class Section:
    """What is configured in one place: key to line, and the sections below."""

    kind: str
    lines: dict[str, str] = field(default_factory=dict)
    below: dict[str, Section] = field(default_factory=dict)


# What may stand where: the section's kind; how a line looks; the key it is kept under; the kind of section it opens.
SET: list[tuple[str, str, str, str | None]] = [
    ("", r"host name (\S+)", "host name", None),
    ("", r"note (\d+) says (.+) until (\d{4}-\d\d-\d\d)", "note {0}", None),
    ("", r"login (\S+)", "login {0}", "login"),
    ("login", r"word (\S+)", "word", None),
    ("", r"port ([a-z]+\d)", "port {0}", "port"),
    ("port", r"ip (true|false)", "ip", None),
    ("port", r"ip address (\S+) / (\d+)", "ip address {0} / {1}", None),
    ("port", r"ip mtu (\d+)", "ip mtu", None),
    ("port", r"vlans ([\d,-]+)", "vlans", None),
    ("port", r"(not )?disabled", "disabled", None),
    ("port", r"timers (\d+) (\d+)", "timers", None),
    ("port", r"filter (\S+) then (accept|drop)", "filter", None),
    ("port", r"share (\S+)( weight \d+)?( range \d+ \d+)?( quiet)?", "share {0}", None),
    ("", r"filter (\S+)", "filter {0}", "filter"),
    ("filter", r"(\d+) (accept|drop) (\S+)", "{0}", None),
    ("", r"neighbor (\S+) peer-as (\d+)", "neighbor {0} peer-as", None),
    ("", r"neighbor (\S+) timers (\d+) (\d+)", "neighbor {0} timers", None),
    ("", r"describe (\S+) as (.+)", "neighbor {0} description", None),
    ("", r"neighbor (\S+) group (\S+)", "neighbor {0} group", None),
    ("", r"group (\d+) (\S+)", "group {0}", "group"),
    ("group", r"backup (\S+)", "backup", None),
]
# How a line is taken away where that is not `drop` and its key.
DROP: list[tuple[str, str, str]] = [
    ("port", r"timers default", "timers"),
    ("", r"forget description of (\S+)", "neighbor {0} description"),
]


class Skerry:
    """One router: takes lines one at a time, each carried out or refused."""

    def __init__(self) -> None:
        self.root = Section("")
        self.stack: list[tuple[int, Section]] = []

    def load(self, text: str) -> None:
        """Every line of `text`, which has to be right."""
        lines = iter(text.splitlines())
        for line in filter(str.strip, lines):
            start = re.fullmatch(r"welcome (%%|@@)", line.strip())
            self.take("\n".join([line, *self._until(lines, start[1])]) if start else line)

    @staticmethod
    def _until(lines: Iterator[str], delimiter: str) -> Iterator[str]:
        for line in lines:
            yield line
            if line.strip() == delimiter:
                return

    def take(self, line: str) -> None:
        """Carry out one line. Raises Refused, and has changed nothing then."""
        words, indent = line.strip(), len(line) - len(line.lstrip(" "))
        section = self.stack[-1][1] if self.stack else self.root
        if words.startswith("welcome "):
            first, *_, last = words.split("\n")
            if last.strip() != first.split()[1]:
                raise Refused("the text has no end")
            self.root.lines["welcome"] = words
            return
        if words == "end-filter":
            if section.kind != "filter":
                raise Refused("no filter is open")
            self.stack.pop()
            return
        # A filter takes everything for an entry until it is ended.
        while self.stack and self.stack[-1][0] >= indent and self.stack[-1][1].kind != "filter":
            self.stack.pop()
        section = self.stack[-1][1] if self.stack else self.root
        if words.startswith("drop ") or any(
            re.fullmatch(p, words) for kind, p, _ in DROP if kind == section.kind
        ):
            self._drop(section, words)
        else:
            self._set(section, words, indent)

    def _set(self, section: Section, words: str, indent: int) -> None:
        for kind, pattern, key_of, opens in SET:
            match = re.fullmatch(pattern, words)
            if kind != section.kind or not match:
                continue
            key = key_of.format(*match.groups())
            self._allowed(section, key, match)
            section.lines[key] = words
            if opens:
                self.stack.append((indent, section.below.setdefault(key, Section(opens))))
            return
        raise Refused(f"not understood here: {words}")

    def _allowed(self, section: Section, key: str, match: re.Match[str]) -> None:
        if key == "filter" and f"filter {match[1]}" not in self.root.lines:
            raise Refused(f"there is no filter {match[1]}")
        if (key == "backup" or key.endswith(" group")) and match[match.re.groups] not in self.labels():
            raise Refused(f"there is no group called {match[match.re.groups]}")
        if key.startswith("ip address "):
            for name, port in self.root.below.items():
                if port is not section and key in port.lines:
                    raise Refused(f"{key} is on {name}")
        if re.fullmatch(r"group \d+", key) and key in self.root.lines and self.root.lines[key] != match[0]:
            self._unused(self.root.lines[key].split()[2])

    def labels(self) -> set[str]:
        return {line.split()[2] for key, line in self.root.lines.items() if re.fullmatch(r"group \d+", key)}

    def _unused(self, label: str) -> None:
        if [
            line.split()[2] for key, line in self.root.lines.items() if re.fullmatch(r"group \d+", key)
        ].count(label) > 1:
            return
        users = [line for s in self.root.below.values() for key, line in s.lines.items() if key == "backup"]
        users += [
            line
            for key, line in self.root.lines.items()
            if key.startswith("neighbor") and key.endswith(" group")
        ]
        if any(line.split()[-1] == label for line in users):
            raise Refused(f"group {label} is in use")

    def _drop(self, section: Section, words: str) -> None:
        for kind, pattern, key_of in DROP:
            match = re.fullmatch(pattern, words)
            if kind == section.kind and match:
                return self._gone(section, key_of.format(*match.groups()))
        return self._gone(section, words.removeprefix("drop "))

    def _gone(self, section: Section, key: str) -> None:
        inner = [
            k for k in section.lines if k == key or (key.startswith("neighbor") and k.startswith(f"{key} "))
        ]
        if not inner:
            raise Refused(f"{key} is not there")
        if re.fullmatch(r"group \d+", key):
            own = section.below.pop(key)
            try:
                self._unused(section.lines[key].split()[2])
            except Refused:
                section.below[key] = own
                raise
        if key.startswith("filter "):
            name = key.split()[1]
            if any(
                line.split()[1] == name
                for s in self.root.below.values()
                for k, line in s.lines.items()
                if k == "filter"
            ):
                raise Refused(f"{key} is in use")
        for gone in inner:
            del section.lines[gone]
            section.below.pop(gone, None)

    def text(self) -> str:
        """What it runs, as it lists it."""
        return "! skerry\n" + "".join(f"{line}\n" for line in self._lines(self.root, 0))

    def _lines(self, section: Section, depth: int) -> Iterator[str]:
        for key, line in section.lines.items():
            yield " " * depth + line
            if key in section.below:
                inner = section.below[key]
                yield from self._lines(inner, depth + 1)
                if inner.kind == "port" and "disabled" not in inner.lines:
                    yield " " * (depth + 1) + "not disabled"
                if inner.kind == "filter":
                    yield " " * depth + "end-filter"


WELCOME = ("Larkwater\nno tickets on the pier", "port ether1\n disabled", "100%% ferries", "one line")


def _some(draw: st.DrawFn, *lines: str) -> list[str]:
    return [line for line in lines if draw(st.booleans())]


@st.composite
def setups(draw: st.DrawFn) -> str:
    """The text of a configuration that the router accepts."""
    lines = _some(draw, "host name pier")
    if draw(st.booleans()):
        text = draw(st.sampled_from(WELCOME))
        mark = "@@" if "%%" in text else "%%"
        lines += [f"welcome {mark}", *text.split("\n"), mark]
    lines += _some(
        draw, "note 7 says the pier until summer until 2026-11-01", "note 10 says  rust   until 2027-01-01"
    )
    if draw(st.booleans()):
        lines += ["login ada", *draw(st.sampled_from([[], [" word reed"], [" word sedge"]]))]
    filters = sorted(draw(st.sets(st.sampled_from(["gate", "quay"]))))
    for name in filters:
        entries = draw(
            st.dictionaries(st.sampled_from([10, 20, 100]), st.sampled_from(["accept any", "drop web"]))
        )
        lines += [
            f"filter {name}",
            *(f" {number} {entry}" for number, entry in entries.items()),
            "end-filter",
        ]
    addresses = draw(st.permutations(["192.0.2.1 / 24", "198.51.100.1 / 31", "2001:db8::1 / 64"]))
    for number, port in enumerate(sorted(draw(st.sets(st.sampled_from(["ether1", "ether2", "radio1"]))))):
        lines += [
            f"port {port}",
            *_some(draw, " ip true", f" ip address {addresses[number]}", " ip mtu 9000"),
        ]
        lines += draw(st.sampled_from([[], [" vlans 1-3,7"], [" vlans 7,1,2,3"], [" vlans 9"]]))
        lines += draw(st.sampled_from([[], [" disabled"], [" not disabled"]]))
        lines += draw(st.sampled_from([[], [" timers 7 28"], [" timers 1 4"]]))
        lines += (
            [f" filter {draw(st.sampled_from(filters))} then drop"] if filters and draw(st.booleans()) else []
        )
        lines += draw(
            st.sampled_from(
                [[], [" share a weight 1 quiet"], [" share a range 1024 65535"], [" share b weight 7"]]
            )
        )
    labels = sorted(draw(st.sets(st.sampled_from(["north", "south", "east"]))))
    numbers = draw(st.permutations([1, 2, 3]))
    groups = dict(zip(labels, numbers, strict=False))
    lines += [f"group {number} {label}" for label, number in groups.items()]
    for number in groups.values():
        if draw(st.booleans()):
            lines += [
                f"group {number} {next(k for k, v in groups.items() if v == number)}",
                f" backup {draw(st.sampled_from(labels))}",
            ]
    for neighbor in sorted(draw(st.sets(st.sampled_from(["192.0.2.9", "203.0.113.7"])))):
        lines += _some(
            draw,
            f"neighbor {neighbor} peer-as 64501",
            f"neighbor {neighbor} timers 7 28",
            f"describe {neighbor} as the far shore",
        )
        lines += (
            [f"neighbor {neighbor} group {draw(st.sampled_from(labels))}"]
            if labels and draw(st.booleans())
            else []
        )
    return "\n".join(lines) + "\n"
