"""An engineer's own lines: checked, compared, timed and recorded like everything else."""

from __future__ import annotations

import unittest

from larkwater import LarkwaterTest

CORE = ("--on", "name=gull-core-1")


class NativeTest(LarkwaterTest):
    delivered = True

    def lines(self, text: str) -> str:
        (self.estate / "mine.txt").write_text(text)
        return "mine.txt"

    def test_own_lines_are_added_and_nothing_else_changes(self) -> None:
        before = self.running("gull-core-1")
        file = self.lines("user visitor\n  role operator\nsystem\n  contact me\n")
        run = self.oast("push", "--file", file, "-m", "By hand", *CORE, "--yes", "--ask", "read ntp servers")
        self.assertIn("+ user visitor", run.out)
        self.assertIn("1 device delivered", run.out)
        self.assertIn("gull-core-1: read ntp servers\n", run.out)
        self.assertIn("192.0.2.123", run.out.partition("read ntp servers\n")[2])
        after = self.running("gull-core-1")
        self.assertIn("user visitor\n  role operator\n", after)
        self.assertIn("contact me\n", after)
        for line in before.splitlines():
            if "contact" not in line:
                self.assertIn(line, after)
        self.assertRegex(
            self.oast("push", "--file", file, "-m", "Again", *CORE, "--yes").out,
            r"(?m)^\d+ devices? in sync$",
        )
        self.oast("change", "revert", "last", "--yes")
        self.assertEqual(self.running("gull-core-1"), before)

    def test_a_mistake_in_them_has_its_place(self) -> None:
        file = self.lines("system\n  contakt me\nuser visitor\n  role guest\n")
        told = self.oast("push", "--file", file, "-m", "x", *CORE, "--yes", expect=3).err
        self.assertIn("mine.txt:2: ", told)
        self.assertIn("did you mean 'contact'?", told)
        self.assertIn("mine.txt:4: ", told)
        asked = self.oast(
            "push",
            "--file",
            self.lines("user visitor\n"),
            "-m",
            "x",
            *CORE,
            "--yes",
            "--ask",
            "save startup",
            expect=2,
        )
        self.assertIn("'save startup' is", asked.err)
        self.assertNotIn("visitor", self.running("gull-core-1"))
        self.assertIn(
            "cannot read", self.oast("push", "--file", "none.txt", "-m", "x", *CORE, "--yes", expect=2).err
        )
        self.assertIn(
            "has no statements",
            self.oast("push", "--file", self.lines("\n"), "-m", "x", *CORE, "--yes", expect=2).err,
        )
        self.assertIn(
            "--section",
            self.oast("push", "--file", file, "--section", "time", "-m", "x", "--yes", expect=2).err,
        )

    def test_what_would_say_nothing_beside_own_lines_is_refused(self) -> None:
        file = self.lines("user visitor\n")
        for option in (("--mode", "replace"), ("--remove-unknown",), ("--with", "contact=me")):
            run = self.oast("push", "--file", file, "-m", "x", *CORE, "--yes", *option, expect=2)
            self.assertIn(f"--file and {option[0]} exclude each other", run.err)
        self.assertIn(
            "--mode",
            self.oast("push", "--change", "last", "--mode", "merge", "--yes", expect=2).err,
        )

    def test_a_minus_sign_or_the_platforms_own_word_removes(self) -> None:
        before = self.running("gull-core-1")
        self.oast(
            "push",
            "--file",
            self.lines("user visitor\n  role operator\nuser guest\n"),
            "-m",
            "come",
            *CORE,
            "--yes",
        )
        file = self.lines(
            "- user guest\nuser visitor\n  - role operator\nremove user nobody\nsystem\n  contact me\n"
        )
        shown = self.oast("push", "--file", file, "-m", "go", *CORE, "--yes").out
        for line in ("- user guest", "  -   role operator", "  +   contact me"):
            self.assertIn(line, shown)
        after = self.running("gull-core-1")
        self.assertIn("user visitor\n", after)
        self.assertNotIn("guest", after)
        self.assertNotIn("nobody", after)
        self.assertRegex(
            self.oast("push", "--file", file, "-m", "again", *CORE, "--yes").out,
            r"(?m)^\d+ devices? in sync$",
        )
        self.oast("push", "--file", self.lines("remove user visitor\n"), "-m", "go", *CORE, "--yes")
        self.assertNotIn("visitor", self.running("gull-core-1"))
        self.oast("change", "revert", "last", "--yes")
        self.assertIn("user visitor\n", self.running("gull-core-1"))
        self.assertIn(
            before.partition("user ")[0],
            self.running("gull-core-1").replace("contact me", 'contact "Larkwater network desk"'),
        )

    def test_removals_are_proposed_approved_and_delivered(self) -> None:
        self.oast("push", "--file", self.lines("user guest\n"), "-m", "come", *CORE, "--yes")
        self.oast("push", "--file", self.lines("- user guest\n"), "-m", "go", *CORE, "--propose")
        self.oast("change", "approve", "last", "--yes", environment={"OAST_IDENTITY": "bo@larkwater.example"})
        self.assertIn("1 device delivered", self.oast("push", "--change", "last", "--yes").out)
        self.assertNotIn("guest", self.running("gull-core-1"))

    def test_own_text_is_rendered_with_values_where_that_is_asked_for(self) -> None:
        file = self.lines("system\n  location {{ device.site }}-{{ nothing }}\n")
        told = self.oast("push", "--file", file, "-m", "x", "--on", "role=core", "--yes", expect=3).err
        self.assertIn("mine.txt:2: '{{' starts a template expression", told)
        self.assertIn("--with-values", told)
        told = self.oast(
            "push", "--file", file, "--with-values", "-m", "x", "--on", "role=core", "--yes", expect=3
        ).err
        self.assertIn("mine.txt:2: ", told)
        self.assertIn("nothing", told)
        file = self.lines("system\n  location {{ device.site }}-hall\n- user visitor\n")
        self.oast("push", "--file", file, "--with-values", "-m", "x", "--on", "role=core", "--yes")
        for device in ("gull-core-1", "heron-core-1"):
            self.assertIn(f"location {device.split('-')[0]}-hall", self.running(device))
        self.assertIn("needs --file", self.oast("push", "--with-values", "-m", "x", "--yes", expect=2).err)

    def test_what_the_device_refuses_and_what_is_missing_is_said_before_or_with_the_line_of_the_file(
        self,
    ) -> None:
        self.fault("gull-core-1", "refuse", "--match", "contact")
        run = self.oast(
            "push",
            "--file",
            self.lines("user visitor\nsystem\n  contact me\n"),
            "-m",
            "x",
            *CORE,
            "--yes",
            expect=4,
        )
        self.assertIn("(mine.txt:3)", run.out)
        self.fault("gull-core-1", "none")
        run = self.oast(
            "push",
            "--file",
            self.lines("static-route 203.0.113.240/28\n"),
            "-m",
            "x",
            *CORE,
            "--yes",
            expect=4,
        )
        self.assertIn("would have no 'next-hop';", run.out + run.err)

    def test_every_device_picked_is_asked_and_standard_input_is_a_file(self) -> None:
        self.oast("push", "--file", self.lines("user visitor\n"), "-m", "one", *CORE, "--yes")
        run = self.oast(
            "push",
            "--file",
            "-",
            "-m",
            "both",
            "--on",
            "role=core",
            "--yes",
            "--ask",
            "read users",
            "-q",
            stdin="user visitor\n",
        )
        self.assertIn("1 device delivered", run.out)
        self.assertIn("gull-core-1, heron-core-1: read users", run.out)

    def test_what_breaks_the_network_goes_back(self) -> None:
        before = self.running("gull-core-1")
        file = self.lines("ospf\n  area 0.0.0.0\n    interface port1\n      hello-interval 3\n")
        self.oast(
            "push",
            "--file",
            file,
            "-m",
            "x",
            *CORE,
            "--yes",
            "--revert-timer",
            "15",
            "--verify-timeout",
            "3",
            expect=5,
        )
        self.assertEqual(self.running("gull-core-1"), before)


if __name__ == "__main__":
    unittest.main()
