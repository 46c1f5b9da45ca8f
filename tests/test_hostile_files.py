"""Files and arguments that kill or hang: bounded in depth, size and steps, each told in words at its line."""

from __future__ import annotations

import json
import resource

from larkwater import EstateTest
from oast.platforms.load import SHIPPED

DEEP = 100_000


class HostileFilesTest(EstateTest):
    def told(self, *arguments: str, expect: int = 3) -> str:
        run = self.oast(*arguments, expect=expect)
        self.assertLess(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, 700_000, "memory in KiB")
        return run.out + run.err

    def test_yaml_that_is_too_deep_too_large_or_no_number(self) -> None:
        file = self.estate / "values" / "odd.yaml"
        doubling = "a0: &a0 [x, x]\n" + "".join(f"a{n}: &a{n} [*a{n - 1}, *a{n - 1}]\n" for n in range(1, 40))
        for text, line, words in (
            ("everywhere:\n  x: " + "[" * DEEP, 2, "more than 60 levels"),
            ("everywhere:\n  x: " + "{a: " * DEEP, 2, "more than 60 levels"),
            ("everywhere:\n  x: " + "- " * DEEP, 2, ""),
            (
                "everywhere:\n" + "".join(" " * n + "a:\n" for n in range(1, 3000)),
                61,
                "more than 60 levels",
            ),
            (doubling, 19, "the YAML aliases of this file expand to more than"),
            ("everywhere:\n  x: " + "9" * 5000 + "\n", 2, "a number of 5000 digits"),
            ("everywhere:\n  x: 0x" + "f" * 5000 + "\n", 2, "a number of 5002 digits"),
        ):
            file.write_text(text)
            told = self.told("lint")
            self.assertIn(f"values/odd.yaml:{line}", told)
            self.assertIn(words, told)
        file.unlink()
        self.assertIn(
            "a number of 5000 digits", self.told("render", "--with", "link_cost=" + "9" * 5000, expect=2)
        )

    def test_templates_that_no_compiler_can_take(self) -> None:
        system = self.estate / "templates/bine/system.j2"
        written = system.read_text()
        last = written.count("\n") + 1
        for text, words in (
            ("{% for i in x %}" * 500, "more than 20 levels"),
            ("\n".join(["{% for i in location %}"] * 30) + "\n{% endfor %}" * 30, "more than 20 levels"),
            ("{{ " + "(" * 3000 + "1" + ")" * 3000 + " }}", "more than 20 levels"),
            ("{{ " + "not " * 5000 + "x }}", "nested too deeply, or too long"),
            ("{{ " + "1 + " * 5000 + "1 }}", "nested too deeply, or too long"),
            ("{{ " + "9" * 5000 + " }}", "a number of 5000 digits"),
        ):
            system.write_text(f"{written}{text}\n")
            self.assertRegex(
                self.told("lint"),
                rf"templates/bine/system.j2:({last}|{last + 20}): the template has an error: .*{words}",
            )
        (self.estate / "templates/bine/deep.j2").write_text("{{ " + "not " * 5000 + "x }}")
        system.write_text(written + "{% include 'deep.j2' %}\n")
        self.assertIn("nested includes", self.told("lint"))
        system.write_text(written)
        self.edit(
            "values/network.yaml",
            'location: "{{ site_name }}"',
            'location: "{{ ' + "not " * 5000 + 'site_name }}"',
        )
        self.assertIn("nested includes", self.told("lint"))

    def test_nothing_outside_the_templates_is_taken_in(self) -> None:
        (self.folder / "outside.j2").write_text("hidden-4711\n")
        (self.folder / "elsewhere").mkdir()
        (self.folder / "elsewhere" / "more.j2").write_text("{% macro x() %}hidden-4711{% endmacro %}\n")
        folder = self.estate / "templates/bine"
        (folder / "link.j2").symlink_to(self.folder / "outside.j2")
        (folder / "linked").symlink_to(self.folder / "elsewhere")
        (folder / "to-key.j2").symlink_to(self.folder / "larkwater.key")
        (folder / "within.j2").symlink_to("time.j2")
        (folder / "bytes.j2").write_bytes(b"\xff\xfe")
        system = folder / "system.j2"
        written = system.read_text()
        key = json.loads((self.folder / "larkwater.key").read_text())["k"]
        for line, words in (
            ("{% include '../../../outside.j2' %}", "is outside the templates"),
            (f"{{% include '{self.folder}/outside.j2' %}}", ""),
            ("{% include 'link.j2' %}", "'link.j2' is outside the templates"),
            (
                "{% import 'linked/more.j2' as m %}{{ m.x() }}",
                "'linked/more.j2' is outside the templates",
            ),
            ("{% from 'linked/more.j2' import x %}{{ x() }}", "is outside the templates"),
            ("{% extends 'to-key.j2' %}", "is outside the templates"),
            ("{% include ['nothing', 'to-key.j2'] %}", ""),
            ("{% include 'to-key.j2' ignore missing %}", ""),
            ("{% include 'bytes.j2' %}", "not UTF-8"),
            ("{% include '" + "x" * 3000 + "' %}", ""),
        ):
            system.write_text(written + line + "\n")
            run = self.oast("lint", expect=None)
            told = run.out + run.err
            self.assertIn(words, told)
            self.assertEqual(run.code, 0 if "ignore missing" in line else 3, told)
            for hidden in ("hidden-4711", key):
                self.assertNotIn(hidden, told)
        system.unlink()
        system.symlink_to(self.folder / "outside.j2")
        self.assertIn("templates/bine/system.j2: the template is outside the templates", self.told("lint"))

    def test_names_never_lead_anywhere(self) -> None:
        for name in ("../../outside", "/etc/hostname", "a/b", ".hidden", "a b", "x" * 300, "..", "x\x00"):
            written = (self.estate / "intent.yaml").read_text()
            self.edit("intent.yaml", "  - section: system\n", f"  - section: {json.dumps(name)}\n")
            self.assertRegex(self.told("lint"), r"is not a valid section name|U\+0000")
            (self.estate / "intent.yaml").write_text(written)
        platforms = self.estate / "platforms"
        platforms.mkdir()
        shipped = (SHIPPED / "bine.toml").read_text()
        (platforms / "bine.toml").write_text(shipped.replace('name = "bine"', 'name = "../../elsewhere"'))
        self.assertIn("'../../elsewhere' is not a valid platform name", self.told("lint"))
        (platforms / "bine.toml").unlink()
        for platform in ("../bine", "/etc/passwd", "bine/../bine"):
            self.edit("inventory/devices.yaml", "platform: bine", f"platform: {platform}")
            self.assertIn(f"unknown platform '{platform}'", self.told("lint"))
            self.edit("inventory/devices.yaml", f"platform: {platform}", "platform: bine")

    def test_a_long_text_of_which_much_is_empty_is_whole(self) -> None:
        template = self.estate / "templates/bine/system.j2"
        template.write_text(
            template.read_text().replace("  timezone-name {{ timezone }}\n", "")
            + "{% for i in range(999) %}{{ '' }}{% endfor %}\n  timezone-name Europe/Paris\n"
        )
        self.assertIn(
            "Europe/Paris", self.oast("render", "--section", "system", "--on", "name=gull-core-1").out
        )

    def test_selectors_that_are_too_deep_or_too_long(self) -> None:
        for selector in ("(" * 3000 + "role=core" + ")" * 3000, "not " * 3000 + "role=core", "(" * 3000):
            self.assertIn("more than 50 brackets or 'not'", self.told("devices", "--on", selector))
        self.assertIn(
            "longer than 20000 characters", self.told("devices", "--on", "role=core or " * 3000 + "role=core")
        )

    def test_templates_that_loop_for_minutes_or_make_gigabytes(self) -> None:
        template = self.estate / "templates/bine/system.j2"
        before = template.read_text()
        number = before.count("\n") + 2
        for text, words in (
            (
                "{% for i in range(99999) %}{% for j in range(99999) %}{% endfor %}{% endfor %}",
                "the template's loops ran more than",
            ),
            ("{% for i in range(9999) %}{{ 'x' * 9999 }}{% endfor %}", "creates a text longer than"),
            ("{{ 'x' * 10 ** 11 }}", "creates a text or list longer than"),
            ("{{ 9 ** (9 ** 9) }}", "a power above"),
            ("{{ '%0999999999d' % 5 }}", "a width of that many characters"),
            ("{{ '{:999999999}'.format(5) }}", "a width of that many characters"),
            ("{{ 'x'.ljust(10 ** 10) }}", "a width of that many characters"),
            ("{{ 'x' | center(10 ** 10) }}", "a width of that many characters"),
            (
                "{% set n = namespace(t='xx') %}{% for i in range(60) %}{% set n.t = n.t ~ n.t %}{% endfor %}",
                "creates a text longer than",
            ),
            (
                "{% set n = namespace(t='xx') %}{% for i in range(60) %}{% set n.t = n.t + n.t %}{% endfor %}",
                "creates a text or list longer than",
            ),
            ("{% macro m() %}{{ m() }}{% endmacro %}{{ m() }}", ""),
        ):
            template.write_text(before + "\n" + text + "\n")
            told = self.told("lint", "--on", "name=gull-core-1", "--section", "system")
            self.assertIn(f"templates/bine/system.j2:{number}: cannot render the template: ", told, text)
            self.assertIn(words, told)
        template.write_text(before)
        self.edit(
            "values/network.yaml", "contact: Larkwater network desk", "contact: \"{{ 'x' * 10 ** 11 }}\""
        )
        self.assertIn("creates a text or list longer than", self.told("lint"))
