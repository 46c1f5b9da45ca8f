"""Files and arguments that kill or hang: bounded in depth, size and steps, each told in words at its line."""

from __future__ import annotations

import resource

from larkwater import EstateTest

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
            ("everywhere:\n  x: " + "[" * DEEP, 2, "more than 60 levels deep"),
            ("everywhere:\n  x: " + "{a: " * DEEP, 2, "more than 60 levels deep"),
            ("everywhere:\n  x: " + "- " * DEEP, 2, ""),
            ("everywhere:\n" + "".join(" " * n + "a:\n" for n in range(1, 3000)), 61, "more than 60 levels deep"),
            (doubling, 19, "with its aliases written out, this file holds more than"),
            ("everywhere:\n  x: " + "9" * 5000 + "\n", 2, "a number of 5000 digits"),
            ("everywhere:\n  x: 0x" + "f" * 5000 + "\n", 2, "a number of 5002 digits"),
        ):
            file.write_text(text)
            told = self.told("lint")
            self.assertIn(f"values/odd.yaml:{line}", told)
            self.assertIn(words, told)
        file.unlink()
        self.assertIn("a number of 5000 digits", self.told("render", "--with", "link_cost=" + "9" * 5000, expect=2))

    def test_a_long_text_of_which_much_is_empty_is_whole(self) -> None:
        template = self.estate / "templates/bine/system.j2"
        template.write_text(template.read_text() + "{% for i in range(999) %}{{ '' }}{% endfor %}\n  timezone-name Europe/Paris\n")
        self.assertIn("Europe/Paris", self.oast("render", "--section", "system", "--on", "name=gull-core-1").out)

    def test_selectors_that_are_too_deep_or_too_long(self) -> None:
        for selector in ("(" * 3000 + "role=core" + ")" * 3000, "not " * 3000 + "role=core", "(" * 3000):
            self.assertIn("more than 50 brackets or 'not' deep", self.told("devices", "--on", selector))
        self.assertIn("longer than 20000 characters", self.told("devices", "--on", "role=core or " * 3000 + "role=core"))

    def test_templates_that_loop_for_minutes_or_make_gigabytes(self) -> None:
        template = self.estate / "templates/bine/system.j2"
        before = template.read_text()
        number = before.count("\n") + 2
        for text, words in (
            ("{% for i in range(99999) %}{% for j in range(99999) %}{% endfor %}{% endfor %}", "goes through its loops more than"),
            ("{% for i in range(9999) %}{{ 'x' * 9999 }}{% endfor %}", "makes a text of more than"),
            ("{{ 'x' * 10 ** 11 }}", "makes a text or list of more than"),
            ("{{ 9 ** (9 ** 9) }}", "a power above"),
            ("{{ '%0999999999d' % 5 }}", "a width of that many characters"),
            ("{{ '{:999999999}'.format(5) }}", "a width of that many characters"),
            ("{{ 'x'.ljust(10 ** 10) }}", "a width of that many characters"),
            ("{{ 'x' | center(10 ** 10) }}", "a width of that many characters"),
            ("{% set n = namespace(t='xx') %}{% for i in range(60) %}{% set n.t = n.t ~ n.t %}{% endfor %}", "makes a text of more than"),
            (
                "{% set n = namespace(t='xx') %}{% for i in range(60) %}{% set n.t = n.t + n.t %}{% endfor %}",
                "makes a text or list of more than",
            ),
            ("{% macro m() %}{{ m() }}{% endmacro %}{{ m() }}", ""),
        ):
            template.write_text(before + "\n" + text + "\n")
            told = self.told("lint", "--on", "name=gull-core-1", "--section", "system")
            self.assertIn(f"templates/bine/system.j2:{number}: the template cannot be rendered: ", told, text)
            self.assertIn(words, told)
        template.write_text(before)
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: \"{{ 'x' * 10 ** 11 }}\"")
        self.assertIn("makes a text or list of more than", self.told("lint"))
