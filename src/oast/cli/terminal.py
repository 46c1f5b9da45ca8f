"""What is shown on a terminal can only be read: text from devices and files never moves the cursor or changes
colours."""

from __future__ import annotations

from collections.abc import Iterable

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.text import Text

# C0 and C1 control codes but for tab and line break, and the codes that turn the direction of writing.
UNSEEN = (
    *range(0x00, 0x09),
    *range(0x0B, 0x20),
    *range(0x7F, 0xA0),
    0x061C,
    0x200E,
    0x200F,
    *range(0x2028, 0x202F),
    *range(0x2066, 0x206A),
)
_VISIBLE = {code: f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}" for code in UNSEEN}
INDENT = 4


def visible(text: str) -> str:
    """`text` with its control codes spelt out, such as `\\x1b`."""
    return text.translate(_VISIBLE)


class SafeConsole(Console):
    """A console that writes no control codes but its own."""

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        for segment in super().render(renderable, options):
            yield segment if segment.control else Segment(visible(segment.text), segment.style)

    def on_broken_pipe(self) -> None:
        """The reader has closed the output. That ends no delivery: the caller decides what it means."""
        raise BrokenPipeError


def print_hanging(out: Console, text: Text) -> None:
    """Print `text`; on a terminal where it is too long for a line, what follows is indented."""
    if not out.is_terminal:
        out.print(text)
        return
    first = text.wrap(out, out.width)[0]
    rest = text[len(first.plain) :]
    first.rstrip()
    out.print(first)
    while rest.plain.startswith(" "):
        rest = rest[1:]
    if rest.plain:
        for line in rest.wrap(out, max(20, out.width - INDENT)):
            out.print(Text(" " * INDENT) + line)
