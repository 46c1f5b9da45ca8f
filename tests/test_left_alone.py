"""What Oast does not know, or does not own, it leaves alone and tells; and what the device would refuse is told before."""

from __future__ import annotations

import re
import shutil

from larkwater import LarkwaterTest
from oast.platforms.load import SHIPPED

PRIVILEGE = "Is0lde-privilege"


def know_less(test: LarkwaterTest, *statements: str) -> None:
    """The estate describes its devices by a platform of its own, which lacks some statements and what stands below them."""
    whole = (SHIPPED / "bine.toml").read_text(encoding="utf-8")
    if "snmp/community" in statements:
        whole = re.sub(r"(?ms)^\[readings\.communities\].*?(?=^\[|^# )", "", whole)
    lines = whole.splitlines(keepends=True)
    lacking = [word for statement in statements for word in (f'"{statement}"', f'"{statement}/')]
    kept = [line for line in lines if not any(word in line for word in lacking)]
    test.assertTrue(not statements or len(lines) > len(kept))
    (test.estate / "platforms").mkdir()
    text = "".join(kept).replace('name = "bine"', 'name = "brine"')
    (test.estate / "platforms" / "brine.toml").write_text(text, encoding="utf-8")
    shutil.move(test.estate / "templates" / "bine", test.estate / "templates" / "brine")
    for file in ("inventory/devices.yaml", "inventory/terminals.csv"):
        test.edit(file, "bine", "brine")


class LeftAloneTest(LarkwaterTest):
    delivered = True

    def type(self, device: str, *lines: str) -> None:
        said = self.console(device, "raise", PRIVILEGE, "edit", *lines, "close")
        self.assertNotIn("error:", said)

    def test_what_the_grammar_does_not_know_is_kept_counted_listed_and_removed_by_consent_only(self) -> None:
        know_less(self, "ntp/server/port", "ntp/source-interface", "interface/egress-acl")
        self.type("gull-core-1", "ntp", "  source-interface loop0", "  server 192.0.2.123", "    port 1123")
        shown = self.oast("diff").out
        self.assertRegex(
            shown,
            r"\d statements on .*gull-core-1.* are unknown to the platform's grammar and are retained \(-v lists them\)",
        )
        self.assertIn("6 devices in sync, 1 with unsaved changes", shown)
        listed = self.oast("diff", "-v").out
        self.assertIn("ntp / source-interface loop0", listed)
        self.assertRegex(listed, r"ntp / server \S+ / port 1123")
        document = self.oast("diff", "--format", "json").json()
        found = next(d for d in document["devices"] if d["device"] == "gull-core-1")
        self.assertEqual(found["unknown"], 2)
        self.assertEqual(
            {tuple(one["statement"][-1:]) for one in found["retained"]},
            {("source-interface loop0",), ("port 1123",)},
        )
        # A change beside it, and the removal of what holds it.
        self.edit("values/network.yaml", "192.0.2.123", "192.0.2.126")
        pushed = self.oast("push", "-m", "another server", "--on", "name=gull-core-1", "--yes").out
        self.assertIn("retained", pushed)
        running = self.running("gull-core-1")
        self.assertIn("server 192.0.2.126", running)
        self.assertIn("  source-interface loop0", running)
        self.assertIn(
            "  server 192.0.2.123\n    port 1123\n",
            running.replace("    iburst true\n", "").replace("    prefer true\n", ""),
        )
        self.assertRegex(self.oast("diff", "--on", "name=gull-core-1").out, r"(?m)^\d+ devices? in sync$")
        shown = self.oast(
            "push", "-m", "all of it", "--on", "name=gull-core-1", "--remove-unknown", "--yes"
        ).out
        self.assertRegex(shown, r"(?m)^  - +source-interface loop0")
        running = self.running("gull-core-1")
        self.assertNotIn("source-interface", running)
        self.assertNotIn("192.0.2.123", running)

    def test_a_statement_that_is_owned_by_its_name_and_has_a_value_that_is_not_known_is_kept_and_counted(
        self,
    ) -> None:
        know_less(self)
        self.edit(
            "platforms/brine.toml",
            '"system/location" = { kind = "leaf", takes = "text" }',
            '"system/location" = { kind = "leaf", takes = "domain-name" }',
        )
        self.edit("templates/brine/system.j2", '  location "{{ location }}"\n', "")
        shown = self.oast("diff", "-v", "--on", "name=gull-core-1").out
        self.assertIn('system / location "Gull terminal, comms room"', shown)
        self.assertIn("1 statement on gull-core-1 is unknown", shown)
        self.assertRegex(shown, r"(?m)^\d+ devices? in sync$")
        self.oast("push", "-m", "x", "--on", "name=gull-core-1", "--remove-unknown", "--yes")
        self.assertNotIn("location", self.running("gull-core-1"))

    def test_a_platform_that_knows_almost_nothing_of_a_device_is_an_error(self) -> None:
        know_less(self, "ntp/server/port")
        platform = self.estate / "platforms" / "brine.toml"
        readings, mark, text = platform.read_text().partition("[roles]")
        for word in ("interface", "ospf", "acl", "snmp", "ntp", "static-route"):
            text = text.replace(f'"{word}"', f'"x-{word}"').replace(f'"{word}/', f'"x-{word}/')
            readings = (
                readings.replace(f'["{word}/', f'["x-{word}/')
                .replace(f'= "{word}/', f'= "x-{word}/')
                .replace(f', "{word}/', f', "x-{word}/')
            )
        platform.write_text(readings + mark + text)
        for template in (self.estate / "templates" / "brine").glob("*.j2"):
            if template.stem != "system":
                template.unlink()
        (self.estate / "intent.yaml").write_text("sections:\n  - section: system\n")
        shutil.rmtree(self.estate / "policies")
        shutil.rmtree(self.estate / "checks")
        run = self.oast("diff", "--on", "name=gull-core-1", expect=4)
        self.assertRegex(
            run.err,
            r"the platform 'brine' knows only \d+ of the \d+ statements that the device lists; nothing was sent",
        )
        self.assertNotIn("to change", run.out)

    def test_a_section_alone_never_takes_what_another_owns_inside_of_it(self) -> None:
        folder = self.estate / "templates" / "bine"
        (folder / "targets.j2").write_text(
            "{#\nsection: targets\nowns: [snmp/target 192.0.2.77]\n#}\nsnmp\n  target 192.0.2.77\n    port 1162\n"
        )
        self.edit(
            "intent.yaml", "  - section: monitoring\n", "  - section: monitoring\n  - section: targets\n"
        )
        self.oast("push", "-m", "a target", "--on", "role=core", "--yes")
        text = (folder / "monitoring.j2").read_text()
        header = text[: text.index("#}") + 3]
        (folder / "monitoring.j2").write_text(header)
        before = self.running("gull-core-1")
        self.assertIn("target 192.0.2.77", before)
        run = self.oast(
            "push", "-m", "no communities", "--section", "monitoring", "--on", "role=core", "--yes"
        )
        self.assertNotIn("192.0.2.77", run.out)
        after = self.running("gull-core-1")
        self.assertIn("  target 192.0.2.77\n    port 1162\n", after)
        self.assertNotIn("community", after)
        self.assertRegex(self.oast("diff", "--on", "role=core").out, r"(?m)^\d+ devices? in sync$")

    def test_two_owners_of_one_statement_are_told_whatever_globs_they_are_written_with(self) -> None:
        folder = self.estate / "templates" / "bine"
        for one, other in (("user ops-*", "user *-night"), ("static-route 192.*", "static-route *.0/24")):
            for name, pattern in (("first", one), ("second", other)):
                (folder / f"{name}.j2").write_text(f"{{#\nsection: {name}\nowns: ['{pattern}']\n#}}\n")
            intent = (self.estate / "intent.yaml").read_text()
            (self.estate / "intent.yaml").write_text(intent + "  - section: first\n  - section: second\n")
            told = self.oast("lint", expect=3)
            self.assertIn(
                f"'{other}' is already owned by the section 'first' (templates/bine/first.j2)",
                told.out + told.err,
            )
            (self.estate / "intent.yaml").write_text(intent)

    def test_what_the_device_would_refuse_as_a_whole_is_told_before_anything_is_sent(self) -> None:
        before = self.running("tern-edge-1")
        shutil.rmtree(self.estate / "policies")
        # A section alone takes away what another one's interfaces still refer to.
        template = self.estate / "templates/bine/access-lists.j2"
        text = template.read_text()
        template.write_text(text[: text.index("#}") + 3])
        run = self.oast(
            "push", "-m", "x", "--section", "access-lists", "--on", "name=tern-edge-1", "--yes", expect=4
        )
        self.assertRegex(
            run.out + run.err,
            r"the device would reject this: 'interface \S+ / ingress-acl \S+' refers to 'acl \S+', which would be removed",
        )
        self.assertIn("deliver it together with the section that owns the reference", run.out + run.err)
        template.write_text(text)
        # An address that moves, with nothing taken away.
        interfaces = self.estate / "templates/bine/interfaces.j2"
        interfaces.write_text(interfaces.read_text().replace("loop0", "loop7"))
        run = self.oast(
            "push",
            "-m",
            "x",
            "--section",
            "interfaces",
            "--mode",
            "merge",
            "--on",
            "name=tern-edge-1",
            "--yes",
            expect=4,
        )
        self.assertRegex(
            run.out + run.err,
            r"'interface loop\d / ipv4 / address \S+' and '.*' would exist at the same time",
        )
        self.assertEqual(self.running("tern-edge-1"), before)
