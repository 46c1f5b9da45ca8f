"""The examples in the documentation are run: each ```console block of a page, in order, on the demo's estate."""

from __future__ import annotations

import doctest
import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

from larkwater import LarkwaterTest, clean_environment, program

ROOT = Path(__file__).parent.parent
BLOCK = re.compile(r"^```console\n(.*?)^```$", re.MULTILINE | re.DOTALL)
FILE = re.compile(r"^```(?:toml|text) ((?:>> )?\S+)\n(.*?)^```$", re.MULTILINE | re.DOTALL)
LINK = re.compile(r"\]\(([^)#:]+)\)")


def examples(text: str) -> list[tuple[str, int, str]]:
    """Command, exit code and output of each example in a page; `...` in the output stands for anything."""
    found = []
    for block in BLOCK.findall(text):
        for part in re.split(r"^\$ ", block, flags=re.MULTILINE)[1:]:
            line, _, output = part.partition("\n")
            command, _, code = line.partition("   # exit ")
            found.append((command, int(code or 0), output))
    return found


def steps(text: str) -> list[tuple[str, int | None, str]]:
    """The examples of a page, and between them its files: where, None, and what stands in them (```toml FILE)."""
    found: list[tuple[str, int | None, str]] = []
    at = 0
    for match in FILE.finditer(text):
        found += examples(text[at : match.start()])
        found.append((match[1], None, match[2]))
        at = match.end()
    return found + examples(text[at:])


class PageTest(LarkwaterTest):
    """Runs what stands in a page."""

    command_timeout_s = 10  # the pages show how long the demo's estate waits

    def check(self, page: str) -> None:
        text = (ROOT / "docs" / page).read_text(encoding="utf-8")
        found = steps(text)
        self.assertTrue(found, f"{page} has no examples")
        for command, code, wanted in found:
            if code is None:
                self.put(command, wanted)
                continue
            with self.subTest(page=page, command=command):
                output, ended = self.run_line(command)
                fits = doctest.OutputChecker().check_output(wanted, output, doctest.ELLIPSIS)
                self.assertTrue(fits, f"wanted:\n{wanted}\ngot:\n{output}")
                self.assertEqual(ended, code, output)

    def put(self, where: str, text: str) -> None:
        """A file of a page; with `>> FILE`, more of it."""
        path = self.estate / where.removeprefix(">> ")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text((path.read_text() if where.startswith(">> ") else "") + text)

    def run_line(self, command: str) -> tuple[str, int]:
        """All that a command line puts out, and its exit code; only what needs a shell gets one."""
        if command.startswith("oast ") and not set(command) & set("|;<>$`&"):
            run = program(*shlex.split(command)[1:], cwd=self.estate, together=True)
            return run.out, run.code
        programs = f"{self.programs()}:{Path(sys.executable).parent}"
        environment = {**clean_environment(), "PATH": f"{programs}:{clean_environment()['PATH']}"}
        shell = ["bash", "-c", command]
        done = subprocess.run(
            shell,
            cwd=self.estate,
            env=environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            check=False,
        )
        return done.stdout, done.returncode


class RoutersTest(PageTest):
    """Pages whose examples are about routers alone."""

    def test_the_page_about_watching(self) -> None:
        self.check("watch.md")
        # Whom it is told to stands in the page as well.
        (self.estate / "authority.pem").touch()
        self.put(">> oast.toml", (self.estate / "notify.toml").read_text())
        self.oast("lint")

    def test_the_page_about_sources(self) -> None:
        (self.estate / "authority.pem").touch()
        self.check("sources.md")

    def test_the_page_about_onboarding(self) -> None:
        self.check("onboarding.md")

    def test_the_page_about_changes(self) -> None:
        self.oast("push", "-m", "set up", "--yes")
        self.check("changes.md")

    def test_the_page_about_policies(self) -> None:
        self.check("policies.md")

    def test_the_page_about_platforms(self) -> None:
        self.check("platforms.md")

    def test_the_page_about_a_platform_of_ones_own(self) -> None:
        self.check("new-platform.md")

    def test_the_page_about_netconf(self) -> None:
        shutil.copytree(ROOT / "tests" / "data" / "yang", self.estate / "modules")
        self.check("netconf.md")

    def test_the_page_about_connections(self) -> None:
        self.check("connections.md")

    def test_every_link_leads_somewhere(self) -> None:
        for page in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")):
            for target in LINK.findall(page.read_text(encoding="utf-8")):
                self.assertTrue((page.parent / target).exists(), f"{page.name}: {target}")
