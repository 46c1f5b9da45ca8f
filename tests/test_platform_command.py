"""`oast platform`: a file to begin with, how it reads a listing, and what a device makes of it."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path

from larkwater import EstateTest, LarkwaterTest
from oast.platforms.load import load_platform
from oast.records import Fingerprints
from odd_devices import Dotterel, Eider
from odd_estate import Estate
from test_syntaxes import DOTTEREL_TEMPLATE, EIDER_TEMPLATE

PLATFORMS = Path(__file__).parent / "data" / "platforms"
LISTING = """name pier;  % where it stands
watch kelp;
port quay/1 {
    text "to the pier";
    sise 9000;
}
odd thing;
"""


class NewTest(EstateTest):
    def test_a_file_to_begin_with_is_right_and_is_not_written_over(self) -> None:
        for syntax in ("indented", "braces", "paths"):
            name = f"own-{syntax}"
            said = self.oast("platform", "new", name, "--syntax", syntax).out
            path = self.estate / "platforms" / f"{name}.toml"
            self.assertIn(f"platforms/{name}.toml is a platform file to start from", said)
            platform = load_platform(path, Fingerprints(b"k"))
            self.assertEqual((platform.name, platform.syntax), (name, syntax))
            self.assertIn(f"own-{syntax}: {syntax}, ", self.oast("platform", "check", str(path)).out)
            self.assertIn("exists already", self.oast("platform", "new", name, expect=2).err)
        self.oast("lint")
        for name in ("../x", "a b", ""):
            self.assertIn("not a valid platform name", self.oast("platform", "new", name, expect=2).err)


class CheckTest(EstateTest):
    def check(self, text: str, *options: str, expect: int = 0, platform: str = "dotterel") -> str:
        listing = self.folder / "running.txt"
        listing.write_text(text)
        return self.oast(
            "platform",
            "check",
            str(PLATFORMS / f"{platform}.toml"),
            "--text",
            str(listing),
            *options,
            expect=expect,
        ).out

    def test_a_listing_is_shown_as_it_was_understood(self) -> None:
        said = self.check(LISTING, "-v", expect=1)
        for line in (
            "dotterel: braces, 13 statements",
            "levels: all; privileged: all",
            "rollback: inverse commands sent by Oast",
            "6 lines with statements: 4 understood, 2 not",
            '    4  port quay/1 / text "to the pier"',
            "    5  port quay/1 / sise 9000",
            "running.txt:5: 'sise' is not a statement below 'port'",
            "did you mean 'size'?",
            "running.txt:7: 'odd' is not a statement at the top level",
            "printing it gives the same configuration; 1 line would be written differently",
        ):
            self.assertIn(line, said)
        self.assertNotIn("kelp", said)
        document = json.loads(self.check(LISTING, "--format", "json", expect=1))
        self.assertEqual(
            (document["format"], document["platform"]["rollback_method"]),
            ("oast.platform/2", "inverse commands sent by Oast"),
        )
        self.assertEqual(
            [(one["line"], one["known"]) for one in document["listing"]["lines"]],
            [(1, True), (2, True), (3, True), (4, True), (5, False), (7, False)],
        )
        self.assertNotIn("kelp", json.dumps(document))
        self.check("name pier;\n")

    def test_paths_and_lines_that_no_grammar_knows_are_shown_as_well(self) -> None:
        said = self.check("/system/contact = desk\n/vlans/vlan[id=7]/name = x\n", "-v", platform="eider")
        self.assertIn("2 lines with statements: 2 understood, 0 not", said)
        self.assertIn("    2  vlans / vlan 7 / name x", said)
        self.assertIn("rollback: confirmed commit", said)

    def test_what_cannot_be_looked_at_is_told(self) -> None:
        self.assertIn(
            "is longer than",
            self.oast(
                "platform", "check", str(PLATFORMS / "eider.toml"), "--text", "/dev/zero", expect=2
            ).err,
        )
        self.assertIn(
            "is empty",
            self.oast(
                "platform", "check", str(PLATFORMS / "eider.toml"), "--text", "/dev/null", expect=2
            ).err,
        )
        self.assertIn(
            "cannot read gone: No such file",
            self.oast("platform", "check", str(PLATFORMS / "eider.toml"), "--text", "gone", expect=2).err,
        )
        self.assertIn("not valid", self.oast("platform", "check", "gone.toml", expect=3).err)
        wrong = self.folder / "wrong.toml"
        wrong.write_text(
            (PLATFORMS / "eider.toml")
            .read_text()
            .replace('kind = "leaf-list"', 'kind = "leaflist"', 1)
            .replace("[edit]", "[edits]")
        )
        told = self.oast("platform", "check", str(wrong), expect=3).err
        self.assertIn("did you mean 'leaf-list'?", told)
        self.assertIn("did you mean 'edit'?", told)


class TryTest(LarkwaterTest):
    def test_a_device_is_asked_for_everything_it_can_show_and_nothing_is_changed(self) -> None:
        before = self.running("tern-edge-1")
        said = self.oast("platform", "try", "bine", "--on", "name=tern-edge-1").out
        for line in (
            "tern-edge-1",
            "  yes  connect, log in, and wait for the first prompt: level 'view'",
            "  yes  enter privileged mode: raise: level 'full'",
            "  yes  check for a pending revert timer: revert-timer state",
            "  yes  reading interfaces: read ports: ",
            "0 failed",
            "not tried, because it would change the device: editing, saving, the rollback, how a statement is set and removed;",
        ):
            self.assertIn(line, said)
        self.assertRegex(said, r"  yes  read running: read running: (\d+) lines, \1 understood")
        self.assertEqual(self.running("tern-edge-1"), before)

    def test_each_step_that_fails_says_what_was_seen(self) -> None:
        (self.estate / "platforms").mkdir()
        shipped = Path(__file__).parent.parent / "src/oast/platforms/bine.toml"
        text = (
            shipped.read_text()
            .replace('name = "bine"', 'name = "own"')
            .replace("read ports", "read poorts")
            .replace('"snmp', '"snomp')
        )
        text = text.replace('leafref = "snmp', 'leafref = "snomp')
        (self.estate / "platforms/own.toml").write_text(text)
        run = self.oast("platform", "try", "own", "--on", "name=tern-edge-1", expect=4)
        self.assertRegex(
            run.out,
            r"  no   read running: read running: \d+ lines, \d+ understood; line \d+: 'snmp' is not a statement",
        )
        self.assertIn("  no   reading interfaces: read poorts: the device rejected 'read poorts'", run.out)
        self.assertIn("  yes  reading routes", run.out)
        document = self.oast(
            "platform", "try", "own", "--on", "name=tern-edge-1", "--format", "json", expect=4
        ).json()
        self.assertEqual(document["format"], "oast.trial/1")
        self.assertEqual([s["passed"] for s in document["steps"]].count(False), 3)
        for path in Path(document["logs"]).iterdir():
            self.assertIn("read poorts", path.read_text())
        self.fault("tern-edge-1", "down")
        self.assertIn(
            "  no   connect, log in, and wait for the first prompt",
            self.oast("platform", "try", "bine", "--on", "name=tern-edge-1", expect=4).out,
        )
        self.oast("platform", "new", "wharf")
        said = self.oast(
            "platform", "try", "wharf", "--on", "name=gull-core-1", "--timeout", "1", expect=4
        ).out
        self.assertRegex(
            said, "no prompt of the platform matches the end of the output: '.*gull-core-1 view.'"
        )
        self.assertIn("unknown platform 'bime'", self.oast("platform", "try", "bime", expect=3).err)


class OddTest(unittest.TestCase):
    def test_platforms_of_every_syntax_can_be_tried(self) -> None:
        with tempfile.TemporaryDirectory(prefix="oast-odd-") as folder:
            devices = {
                "pier-sw": Eider(["/system/contact = desk", "/system/odd = 7"]),
                "pier-rt": Dotterel("name before"),
            }
            estate = Estate(Path(folder), devices, {"eider": EIDER_TEMPLATE, "dotterel": DOTTEREL_TEMPLATE})
            code, out, _ = estate.run("platform", "try", "dotterel", "--on", "name=pier-rt")
            self.assertEqual(code, 0, out)
            self.assertIn("  yes  read running: tell everything: 1 line, 1 understood", out)
            code, out, _ = estate.run("platform", "try", "eider", "--on", "name=pier-sw")
            self.assertEqual(code, 4, out)
            self.assertIn(
                "  no   read running: list running: 2 lines, 1 understood; line 2: 'odd' is not a statement below 'system'",
                out,
            )
            self.assertIn("  yes  check for a pending commit: list pending", out)
            self.assertFalse(
                [
                    line
                    for line in devices["pier-sw"].typed
                    if line.split(" ")[0] in ("open", "set", "delete", "commit", "store")
                ]
            )
