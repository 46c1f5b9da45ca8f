"""A platform's file is drafted from a listing and a session: it reads the listing back, and every guess is marked as one."""

from __future__ import annotations

import asyncio
import re
import tomllib
import unittest
from collections.abc import Callable

from hypothesis import given, settings, strategies as st

from in_memory import run
from larkwater import SECRETS, LarkwaterTest
from oast.connect.session_draft import (
    QUIET_S,
    SessionCommands,
    SessionDraft,
    draft_session,
    error_pattern,
    prompt_pattern,
)
from oast.connect.transcript import Transcript
from oast.errors import ConnectionFailed, DeviceTimeout
from oast.fleet.concurrency import SystemClock
from oast.operations.platform_draft import PlatformDraft, draft_platform, possible_names
from oast.records import Fingerprints, Secret
from trees import configurations

FINGERPRINTS = Fingerprints(b"key")
LISTING = """Collecting the listing...
Configuration in use : 2214 bytes
!
called pier
!
person ada may everything secret 9xAfe
person bob may look secret 8aaZ1
!
port quay0
 comment to the ferry, north side
 has address 192.0.2.1/24
 has address 192.0.2.129 255.255.255.128
 ospf price 10
 ospf greeting-interval 5
!
port quay1
 closed
 size 9000
!
speaker of 64500
 peer 198.51.100.2 in-as 64501
 peer 198.51.100.2 password s3cr3t
 peer 2001:db8::2 in-as 64501
!
path 0.0.0.0/0 by 198.51.100.2
path 203.0.113.0/24 by 192.0.2.9
clock at 192.0.2.123
clock at 192.0.2.124
reader community r3ad0nly look
lan 1,10-20,30
finis
"""
BRACES = """# the quay
system { name pier; resolver { server [ 192.0.2.1 192.0.2.2 ]; } }
port quay/1 {
    text "to the pier";
    size 9000;
}
port quay/2 { disabled; }
"""
PATHS = """// the quay
/system/contact = "the desk"
/users/user[name=ada]/password-hash = $6$abc
/ports/port[name=p1]/enabled = true
/ports/port[name=p2]/ipv4/address[ip=192.0.2.1]/length = 24
/ntp/server[address=192.0.2.123]
"""


def draft(listing: str) -> PlatformDraft:
    return draft_platform("quay", listing, FINGERPRINTS)


class ListingTest(unittest.TestCase):
    """From a listing alone."""

    def statements(self, listing: str) -> dict[str, dict[str, object]]:
        """The statements of its draft, which has to understand every line."""
        made = draft(listing)
        found = made.understanding
        self.assertEqual(
            (found.known, found.problems, found.lost, made.given_up), (len(found.lines), (), (), ())
        )
        statements: dict[str, dict[str, object]] = tomllib.loads(made.text)["statements"]
        return statements

    def test_names_values_types_and_keys_are_told_apart(self) -> None:
        found = self.statements(LISTING)
        self.assertEqual(found["port"], {"kind": "list", "takes": "name", "keys": 1})
        self.assertEqual(found["port/has address"], {"kind": "leaf-list", "takes": "ipv4-address-and-length"})
        self.assertEqual(found["port/ospf price"], {"kind": "leaf", "takes": "number"})
        self.assertEqual(found["port/comment"], {"kind": "leaf", "takes": "text"})
        self.assertEqual(
            found["port/closed"], {"kind": "leaf", "takes": "boolean", "lines": {"false": "closed"}}
        )
        self.assertEqual(
            found["speaker of/peer"], {"kind": "list", "takes": "ip-address", "keys": 1, "inline": True}
        )
        self.assertEqual(found["speaker of/peer/in-as"], {"kind": "leaf", "takes": "number"})
        route = {
            "kind": "list",
            "takes": "ipv4-prefix by:ipv4-address",
            "keys": 1,
            "line": "path {ipv4-prefix} by {by}",
        }
        self.assertEqual(found["path"], route)
        self.assertEqual(found["clock at"], {"kind": "leaf-list", "takes": "ipv4-address"})
        self.assertEqual(found["lan"], {"kind": "leaf", "takes": "ranges"})

    def test_the_other_ways_to_write_a_configuration(self) -> None:
        found = self.statements(BRACES)
        self.assertEqual(
            found["port/disabled"], {"kind": "leaf", "takes": "boolean", "lines": {"false": "disabled"}}
        )
        self.assertEqual(found["system/resolver/server"], {"kind": "leaf-list", "takes": "ipv4-address"})
        found = self.statements(PATHS)
        self.assertEqual(
            found["ports/port/ipv4/address"], {"kind": "list", "takes": "ip:ipv4-address", "keys": 1}
        )
        self.assertEqual(found["ntp/server"], {"kind": "list", "takes": "address:ipv4-address", "keys": 1})

    def test_how_a_listing_is_written(self) -> None:
        indented, braces, paths = (draft(text).writing for text in (LISTING, BRACES, PATHS))
        self.assertEqual((indented.syntax, indented.indent, indented.comment), ("indented", 1, "!"))
        self.assertEqual(len(indented.ignore), 3, "its two headings and its end")
        self.assertTrue(any(re.fullmatch(one, "Configuration in use : 99 bytes") for one in indented.ignore))
        self.assertEqual((braces.syntax, braces.indent, braces.comment), ("braces", 4, "#"))
        self.assertEqual((paths.syntax, paths.comment), ("paths", "//"))
        tabs = draft("a one\n\tb 1\n\tc 2\nd two\n")
        self.assertEqual((tabs.writing.indent, tabs.understanding.problems), (8, ()))

    def test_a_secret_is_marked_and_no_value_of_the_listing_is_in_the_draft(self) -> None:
        found = self.statements(LISTING)
        self.assertEqual(found["person"]["secret"], ["secret"])
        self.assertIs(found["speaker of/peer/password"]["secret"], True)
        self.assertEqual(found["reader community"]["secret"], ["name"])
        text = draft(LISTING).text
        for value in ("9xAfe", "s3cr3t", "r3ad0nly", "192.0.2", "ferry"):
            self.assertNotIn(value, text)

    def test_every_guess_is_marked(self) -> None:
        for line in draft(LISTING).text.split("\n"):
            if re.match(r'(?:"|indent|syntax|ignore|comment|interface|enabled|ipv)', line):
                self.assertIn("# guess", line)

    def test_roles_are_named_only_where_all_that_they_need_is_there(self) -> None:
        roles = tomllib.loads(draft(LISTING).text)["roles"]
        self.assertEqual(
            roles, {"interface": "port", "ipv4_address": "port/has address", "enabled": "port/closed"}
        )
        self.assertNotIn("roles", tomllib.loads(draft("port a1\n size 9\nport a2\n").text))

    @settings(max_examples=60)
    @given(configurations())
    def test_any_configuration_of_a_known_system_is_read_back_by_its_draft(self, listing: str) -> None:
        found = draft(listing).understanding
        self.assertEqual((found.problems, found.lost), ((), ()))

    @settings(max_examples=75)
    @given(st.lists(st.sampled_from([
        "a", " a", "  a 1", "a b", " b 192.0.2.1", "a b c", '"', 'a "b', "{", "}", "a {", "b;", "/a/b = 1", "/a[b=c]", "/", "key x", "#", "! x",
        "{identity}", "a {x} 1", "é 1", "a/b 1", "a\tb", "secret { 1", "x" * 200, "true", "a true", "\x00", "1", "1 2", "- 1", "end",
    ]), max_size=12))  # fmt: skip
    def test_whatever_stands_in_a_listing_there_is_a_file_that_loads(self, lines: list[str]) -> None:
        made = draft("\n".join(lines))
        self.assertTrue(tomllib.loads(made.text)["format"])
        self.assertLessEqual(made.understanding.known, len(made.understanding.lines))


class Unknown:
    """A device that nobody described: `answers` are by what is typed; each is shown, and then `prompt`."""

    def __init__(self, answers: dict[str, str], prompt: str = "quay> ", banner: str = "Welcome\r\n") -> None:
        self.answers, self.prompt = answers, prompt
        self.typed: list[str] = []
        self._shown: asyncio.Queue[str] = asyncio.Queue()
        self.show(f"{banner}{prompt}")

    def show(self, text: str) -> None:
        self._shown.put_nowait(text)

    async def read(self) -> str:
        return await self._shown.get()

    def write(self, text: str) -> None:
        line = text.removesuffix("\n")
        self.typed.append(line)
        change = self.answers.get(line)
        if change is not None and change.startswith("=> "):
            self.prompt = change[3:]
            change = ""
        answer = f"% what is {line}?\r\n" if change is None and line else change or ""
        if answer.endswith("..."):
            self.show(f"{line}\r\n{answer}")
        elif line == " ":
            self.show(f"\r{answer}{self.prompt}")
        else:
            self.show(f"{line}\r\n{answer}{self.prompt}")


class SessionTest(unittest.TestCase):
    """In a session, in a time that passes by itself."""

    def session(
        self, device: Callable[[], Unknown], commands: SessionCommands, privilege: Secret | None = None
    ) -> tuple[SessionDraft, Unknown]:
        async def go() -> tuple[SessionDraft, Unknown]:
            other, clock = device(), SystemClock()
            names = ["quay"]
            return await draft_session(other, commands, privilege, names, Transcript(clock.now), 30.0), other  # type: ignore[arg-type]

        return run(go())

    def test_prompts_levels_pager_and_errors(self) -> None:
        answers = {
            "show": "hostname quay\r\n--- page 1 of 2 ---...", " ": "               \rport 1\r\n", "up": "Password: ...", "s3sam": "=> quay# ",
            "change": "=> quay (changing)# ", "back": "=> quay# ", "": "",
        }  # fmt: skip
        commands = SessionCommands("show", "up", "change", "back")
        found, device = self.session(
            lambda: Unknown(answers), commands, FINGERPRINTS.secret("privilege-password", "s3sam")
        )
        self.assertEqual(found.prompts, {"view": r"\S+> ", "full": r"\S+# ", "edit": r"\S+ \(changing\)# "})
        self.assertEqual((found.privileged, found.level), (["full"], "edit"))
        self.assertEqual(found.listing, "hostname quay\nport 1\n")
        self.assertRegex("--- page 7 of 12 ---...", f"^{found.pager}$")
        self.assertEqual(found.password, r"Password: \.\.\.")
        self.assertEqual(found.errors, [r"(?P<message>% what is .*\?)"])
        self.assertEqual(device.prompt, "quay# ", "editing was ended")
        self.assertEqual({*device.typed} - {*answers}, {"oast-asks-for-nothing"}, "nothing else is typed")

    def test_without_the_privilege_password_no_level_is_found_and_the_session_goes_on(self) -> None:
        found, _ = self.session(lambda: Unknown({"up": "Password: ...", "": ""}), SessionCommands(None, "up"))
        self.assertEqual(list(found.prompts), ["view"])
        self.assertIn("privilege_password is not set", found.findings[-1])

    def test_a_prompt_of_several_lines(self) -> None:
        found, _ = self.session(lambda: Unknown({"": ""}, prompt="--- quay ---\r\n> "), SessionCommands())
        self.assertEqual(found.prompts, {"view": r"--- \S+ ---\n> "})

    def test_a_device_that_shows_no_prompt_or_says_nothing(self) -> None:
        class Clock(Unknown):
            def write(self, text: str) -> None:
                self.prompt = f"{len(self.typed)}> "
                super().write(text)

        with self.assertRaisesRegex(ConnectionFailed, "the answers to two empty lines differ"):
            self.session(lambda: Clock({"": ""}), SessionCommands())
        with self.assertRaisesRegex(DeviceTimeout, "the device was silent for 30 s"):
            silent = Unknown({})
            silent._shown = asyncio.Queue()
            self.session(lambda: silent, SessionCommands())

    def test_patterns(self) -> None:
        self.assertEqual(prompt_pattern("pier-2 (changing)# ", ["pier-2", "pier"]), r"\S+ \(changing\)# ")
        self.assertEqual(prompt_pattern("all> ", ["a"]), "all> ", "a name inside of a word is none")
        for line in (
            "error: no such command",
            "% 12: unknown oast-asks-for-nothing",
            "what? oast-asks-for-nothing",
        ):
            match = re.fullmatch(error_pattern(line), line.replace("12", "99"))
            assert match is not None
            self.assertTrue(match["message"])
        self.assertIn("pier", possible_names("hostname pier\nport p1\n  speed 9\n"))
        self.assertGreater(QUIET_S, 0)


class ProgramTest(LarkwaterTest):
    """By the program, on a simulated device."""

    def test_a_platform_is_drafted_and_read_back_on_a_device(self) -> None:
        run = self.oast(
            "platform",
            "new",
            "tern",
            "--on",
            "name=tern-edge-1",
            "--running",
            "read running",
            "--obtain",
            "raise",
        )
        self.assertRegex(run.out, r"grammar: \d+ statements; (\d+) of \1 lines understood")
        self.assertIn("session: the level 'full', from the prompt after 'raise'", run.out)
        text = (self.estate / "platforms" / "tern.toml").read_text()
        for secret in SECRETS.values():
            self.assertNotIn(secret, text)
        tried = self.oast("platform", "try", "tern", "--on", "name=tern-edge-1").out
        self.assertIn("3 steps, 0 failed", tried)

    def test_what_is_not_given_together_is_refused(self) -> None:
        (self.estate / "empty.txt").touch()
        for arguments, told in (
            (("--running", "x"), "need --on"),
            (("--on", "name=tern-edge-1", "--enter", "x"), "--enter and --leave need each other"),
            (("--on", "role=edge"), "4 devices; select one"),
            (("--text", "nowhere.txt"), "nowhere.txt"),
            (("--text", "empty.txt"), "empty.txt is empty"),
        ):
            self.assertIn(told, self.oast("platform", "new", "tern", *arguments, expect=2).err)
        self.assertFalse((self.estate / "platforms" / "tern.toml").exists())


if __name__ == "__main__":
    unittest.main()
