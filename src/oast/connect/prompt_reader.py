"""Reading a command line: when is an answer complete, what in it is echo, paging or an error. Pure: text in,
text out."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from weakref import WeakKeyDictionary

from oast.platforms import CliDialect, PromptAnswer

# A prompt is at the very end, so only this much of a long answer is searched each time more arrives.
_TAIL = 400


@dataclass(frozen=True, slots=True)
class PromptEvent:
    """Why the device has stopped sending: at a prompt of `level`, at a `pager`, at a `question`, or at one
    for a `password`.

    `answer` is the reply to a pager or a question.
    """

    kind: str
    level: str
    prompt: str
    answer: str = ""


class PromptReader:
    """Collects what arrives until the device waits for input. `command` is what was sent, for questions that
    belong to one."""

    def __init__(self, dialect: CliDialect) -> None:
        by_level = {level: _over_lines(pattern) for level, pattern in dialect.prompts.items()}
        # Questions first: one may look like a prompt.
        asked = [("pager", one) for one in dialect.pagers] + [("question", one) for one in dialect.questions]
        self._asked = [
            (kind, one, re.compile(rf"(?:^|[\r\n])({_over_lines(one.prompt)})\s*\Z")) for kind, one in asked
        ]
        self._patterns = [
            ("prompt", level, re.compile(rf"(?:^|[\r\n])({pattern})\Z"))
            for level, pattern in by_level.items()
        ]
        if dialect.raise_password:
            self._patterns.append(("password", "", re.compile(rf"(?:^|[\r\n])({dialect.raise_password})\Z")))
        self.command = ""
        self.counts_prompts = False
        prompts = "|".join(f"(?:{p})" for p in by_level.values())
        # The same prompt twice, with nothing but the echo of an empty line in between: what came before it is
        # whole.
        self._twice = re.compile(rf"(?:^|[\r\n])(?P<first>{prompts})\s*(?P<second>{prompts})\Z")
        self._any_prompt = re.compile(f"(?:^|[\r\n])({prompts})")
        self._chunks: list[str] = []
        self._size = 0
        self._lines = 0
        self._prompts = 0
        self._tail = ""

    def feed(self, text: str) -> PromptEvent | None:
        """Add what arrived; says where the device has stopped, if it has."""
        self._chunks.append(text)
        self._size += len(text)
        self._lines += text.count("\n")
        if self.counts_prompts:
            # A prompt that is not yet whole is counted with what completes it.
            self._prompts += sum(
                1 for match in self._any_prompt.finditer(self._tail + text) if match.end() > len(self._tail)
            )
        self._tail = (self._tail + text)[-_TAIL:]
        for kind, one, pattern in self._asked:
            match = pattern.search(self._tail)
            if match and question_applies(one, self.command):
                # The answer to it is on its way: what comes next must not find the same prompt again.
                self._tail = ""
                return PromptEvent(kind, "", match[1], one.answer)
        for kind, level, pattern in self._patterns:
            match = pattern.search(self._tail)
            if match:
                return PromptEvent(kind, level, match[1])
        return None

    def whole(self) -> tuple[str, str] | None:
        """The answer up to and with its prompt, and the prompt, when an empty line sent behind the command is
        answered as well."""
        match = self._twice.search(self._tail)
        if match is None:
            return None
        behind = len(self._tail) - match.end("first")
        text = "".join(self._chunks)
        self.take()
        return text[: len(text) - behind], match["first"]

    @property
    def size(self) -> int:
        """How many characters have arrived since the last answer was taken."""
        return self._size

    @property
    def lines(self) -> int:
        """How many lines have arrived since then."""
        return self._lines

    def take(self) -> str:
        """Return all that was collected, and start again."""
        text = "".join(self._chunks)
        self._chunks.clear()
        self._size = 0
        self._lines = 0
        self._prompts = 0
        self._tail = ""
        return text

    def answers(self, number: int) -> list[str] | None:
        """The answers to `number` lines that were sent together, each up to its prompt; None while some are
        still to come.

        The prompt of each but the last stands in the middle, with the echo of the next line behind it.
        """
        if self.counts_prompts and self._prompts < number:
            return None  # Not searched again with everything that arrives.
        text = "".join(self._chunks)
        ends = [match.end() for match in self._any_prompt.finditer(text)]
        if len(ends) < number:
            self._prompts = len(ends)
            return None
        starts = [0, *ends[: number - 1]]
        self.take()
        return [text[start:end] for start, end in zip(starts, [*ends[: number - 1], len(text)], strict=True)]

    @property
    def answered(self) -> int:
        """How many prompts have arrived since the last answer was taken."""
        return sum(1 for _ in self._any_prompt.finditer("".join(self._chunks)))

    def prompt_of(self, text: str) -> str:
        """The prompt with which one of several answers ends."""
        matches = list(self._any_prompt.finditer(text))
        return matches[-1][1] if matches else ""

    def so_far(self) -> str:
        """The last of what has arrived, for an error message; long enough that what is cut off it hides no
        secret's end."""
        return as_on_screen("".join(self._chunks[-50:])[-4000:]).strip()


def _over_lines(pattern: str) -> str:
    """A prompt may take several lines; a line break in its pattern is one as it arrives, carriage return
    included."""
    return re.sub(r"(?<!\\)((?:\\\\)*)\\n", r"\1\\r*\\n", pattern).replace("\n", r"\r*\n")


# Control sequences of a terminal (ECMA-48, 5.4), and then every other control character but line break and
# tab.
_CONTROL = re.compile(r"\x1b\[[0-?]*[ -/]*[@-~]|\x1b[@-Z\\-_]|[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f]")


def as_on_screen(text: str) -> str:
    """Text as a screen would show it: what a carriage return overwrote is gone, and nothing acts on a
    terminal."""
    lines = text.replace("\r\n", "\n").split("\n")
    return "\n".join(_CONTROL.sub("", line.rstrip("\r").rpartition("\r")[2]) for line in lines)


def clean_answer(text: str, command: str, prompt: str) -> str:
    """The device's answer to `command` in `text`, which ends with `prompt`: without echo and prompt."""
    lines = as_on_screen(text[: len(text) - len(prompt)]).split("\n")
    for sent in command.split("\n"):
        if lines and lines[0].strip() == sent.strip():
            lines = lines[1:]
    return "\n".join(lines)


def question_applies(asked: PromptAnswer, command: str) -> bool:
    """Whether a question or pager may come behind `command`."""
    return asked.command is None or re.fullmatch(asked.command, command) is not None


def error_in(text: str, dialect: CliDialect, command: str = "") -> str | None:
    """The device's own words when `text` says that `command` was not done."""
    for warning in _errors(dialect.warnings):
        text = warning.sub("", text)
    own = [
        pattern
        for refusal in dialect.refusals
        if re.fullmatch(refusal.command, command)
        for pattern in refusal.patterns
    ]
    for pattern in _errors((*dialect.errors, *own)):
        match = pattern.search(text)
        if match:
            return (match.groupdict().get("message") or match[0]).strip()
    return None


@cache
def _errors(patterns: tuple[str, ...]) -> tuple[re.Pattern[str], ...]:
    """The patterns of whole lines, for looking through all of an answer at once."""
    return tuple(re.compile(rf"^[ \t]*(?:{pattern})[ \t]*$", re.MULTILINE) for pattern in patterns)


AT_MOST_BYTES = 64_000_000


class TooMuchHeld(Exception):
    """All unfinished answers together take too much, and this session holds the most."""


class AnswerMemory:
    """Counts the bytes of unfinished answers by session. When all together exceed `at_most`, the session with
    the largest is given up, so that devices with ordinary answers do not fail because of it."""

    def __init__(self, at_most: int = AT_MOST_BYTES) -> None:
        self.at_most = at_most
        self.total = 0
        self._held: WeakKeyDictionary[object, int] = WeakKeyDictionary()
        self._given_up: WeakKeyDictionary[object, bool] = WeakKeyDictionary()

    def hold(self, session: object, size: int) -> None:
        """From now on, `session` holds `size` bytes. Raises TooMuchHeld where it is given up."""
        self.total += size - self._held.get(session, 0)
        self._held[session] = size
        if self.total > self.at_most:
            # Sessions that are gone without having released anything are not counted any more.
            self.total = sum(self._held.values())
            if self.total > self.at_most:
                self._given_up[max(self._held, key=lambda one: self._held[one])] = True
        if session in self._given_up:
            self.release(session)
            raise TooMuchHeld

    def release(self, session: object) -> None:
        """`session` holds nothing any more."""
        self.total -= self._held.pop(session, 0)
        self._given_up.pop(session, None)


ANSWERS = AnswerMemory()
