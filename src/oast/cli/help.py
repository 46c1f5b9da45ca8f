"""oast help: the pages of the documentation in the terminal."""

from __future__ import annotations

import re
import sys
import textwrap
from dataclasses import dataclass
from pathlib import Path

from rich.markdown import Markdown

from oast.cli.command import CommandOptions, Subcommand, argument
from oast.cli.exit_codes import DONE
from oast.cli.output import console
from oast.cli.pager import paged
from oast.errors import UsageError
from oast.spelling import spelling_hint

SUMMARY_WIDTH = 84
PAGES = Path(__file__).parent.parent / "pages"
_LINK = re.compile(r"\[([^\]]+)\]\(([\w-]+)\.md(?:#[\w-]+)?\)")


@dataclass(frozen=True, kw_only=True)
class HelpOptions(CommandOptions):
    """The options of `oast help`."""

    topic: str | None = argument(
        "TOPIC", nargs="?", help="page to show, such as delivery (default: list all pages)"
    )


def run(options: HelpOptions) -> int:
    pages = {path.stem: path for path in sorted(PAGES.glob("*.md"))}
    if options.topic is None:
        width = max(map(len, pages))
        for name, path in pages.items():
            sys.stdout.write(f"{name.ljust(width)}  {_summary(path.read_text(encoding='utf-8'))}\n")
        return DONE
    page = pages.get(options.topic.removesuffix(".md"))
    if page is None:
        raise UsageError(f"no page '{options.topic}'", hint=spelling_hint(options.topic, pages))
    text = page.read_text(encoding="utf-8")
    out = console()
    if not out.is_terminal:
        sys.stdout.write(text)
        return DONE
    shown = Markdown(_LINK.sub(r"\1 (`oast help \2`)", text))
    paged(out, lambda to: to.print(shown))
    return DONE


def _summary(text: str) -> str:
    """The first sentence of a page without its markup, cut off at a word where it is long."""
    paragraph = next(part for part in text.split("\n\n") if not part.startswith("#"))
    sentence = re.split(r"(?<=\S)[.:](?:\s|$)", " ".join(paragraph.split()), maxsplit=1)[0]
    return textwrap.shorten(
        re.sub(r"[`*]|\[([^\]]+)\]\([^)]*\)", r"\1", sentence), SUMMARY_WIDTH, placeholder=" …"
    )


COMMAND = Subcommand(
    HelpOptions,
    run,
    examples=(("oast help", "list the pages"), ("oast help delivery", "show the page about deliveries")),
    exits=(0, 2),
)
