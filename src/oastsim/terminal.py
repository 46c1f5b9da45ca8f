"""A terminal of a simulated device: characters in, characters out, line editing and pages. Knows nothing of
SSH."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable


class Terminal(ABC):
    """One session. `closed` becomes True when the user leaves; `lines` counts what was typed."""

    pager = ""
    turning = "\r\n"
    stopping = "qQ"

    def __init__(self, height: int) -> None:
        self.page_length = height
        self.closed = False
        self.lines = 0
        self.asking_password = False
        self._typed = ""
        self._waiting: list[str] = []
        self._page = 0
        self._after_return = False

    @abstractmethod
    def greeting(self) -> str:
        """What a session begins with, up to the first prompt."""

    @abstractmethod
    def ready(self) -> str:
        """The prompt for a command."""

    @abstractmethod
    def execute(self, typed: str) -> str:
        """The answer to a whole line, with the next prompt."""

    @abstractmethod
    def end(self) -> None:
        """The session is over, however it ended."""

    def help(self) -> str:
        """What is shown for ? at the beginning of a line."""
        return ""

    def prompt(self) -> str:
        """What the terminal waits at."""
        return self.pager.format(page=self._page) if self._waiting else self.ready()

    def receive(self, text: str, line: Callable[[str], str] | None = None) -> str:
        """What the device sends back for typed characters, echo included. `line` is called for each whole
        line."""
        out: list[str] = []
        for character in text:
            if self.closed:
                break
            after_return, self._after_return = self._after_return, character == "\r"
            if character == "\n" and after_return:
                continue
            if self._waiting:
                out.append(self._turn_page(character))
            elif character in "\r\n":
                typed, self._typed = self._typed, ""
                out.append("\r\n" + (line or self.execute)(typed))
            elif character == "\x03":
                self._typed, self.asking_password = "", False
                out.append("\r\n" + self.prompt())
            elif character in "\x7f\b":
                out.append("\b \b" if self._typed and not self.asking_password else "")
                self._typed = self._typed[:-1]
            elif character == "\x15":
                out.append("\b \b" * len(self._typed))
                self._typed = ""
            elif character == "?" and not self.asking_password and not self._typed.strip():
                self._typed = ""
                out.append("\r\n" + self.shown(self.help()))
            elif character >= " ":
                self._typed += character
                out.append("" if self.asking_password else character)
        return "".join(out)

    def shown(self, answer: str) -> str:
        """An answer as it is sent: its first page, if it is long, or all of it and the prompt."""
        lines = answer.removesuffix("\n").split("\n") if answer else []
        if not self.page_length or len(lines) < self.page_length:
            return "".join(f"{line}\r\n" for line in lines) + self.prompt()
        self._waiting, self._page = lines, 0
        return self._next_page()

    def _next_page(self) -> str:
        page, self._waiting = self._waiting[: self.page_length - 1], self._waiting[self.page_length - 1 :]
        self._page += 1
        return "".join(f"{line}\r\n" for line in page) + self.prompt()

    def _turn_page(self, character: str) -> str:
        clear = "\r" + " " * len(self.prompt()) + "\r"
        if character in self.stopping or character == "\x03":
            self._waiting = []
            return clear + self.prompt()
        return clear + self._next_page() if character in self.turning else ""
