"""Mistakes planted one at a time in an estate: each gives one message, at its cause, in words that say the fix; none hangs."""

from __future__ import annotations

import os
import shutil
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path

from oast.errors import EstateError
from oast.estate import load_estate
from oast.operations import lint_estate
from oast.records import Problem

HEATH = Path(__file__).parent / "data" / "estates" / "heath"
VALUES, BINE, COWL = "values/network.yaml", "templates/bine/system.j2", "templates/cowl/system.j2"
Plant = Callable[[Path], object]


def write(file: str, text: str | bytes) -> Plant:
    """Write a file of the estate."""

    def plant(estate: Path) -> None:
        path = estate / file
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(text if isinstance(text, bytes) else text.encode())

    return plant


def change(file: str, old: str, new: str) -> Plant:
    """Replace text in a file of the estate."""

    def plant(estate: Path) -> None:
        text = (estate / file).read_text()
        assert old in text, (file, old)
        (estate / file).write_text(text.replace(old, new, 1))

    return plant


def append(file: str, text: str) -> Plant:
    def plant(estate: Path) -> None:
        with (estate / file).open("a") as opened:
            opened.write(text)

    return plant


def move(file: str, to: str) -> Plant:
    def plant(estate: Path) -> None:
        (estate / to).parent.mkdir(parents=True, exist_ok=True)
        (estate / file).rename(estate / to)

    return plant


def pipe(file: str) -> Plant:
    """A named pipe, which hangs whoever opens it."""

    def plant(estate: Path) -> None:
        (estate / file).unlink(missing_ok=True)
        os.mkfifo(estate / file)

    return plant


def both(*plants: Plant) -> Plant:
    def plant(estate: Path) -> None:
        for one in plants:
            one(estate)

    return plant


def bare(text: str) -> Plant:
    """A section of the routers whose template declares nothing."""
    return both(
        append("intent.yaml", "  - section: bare\n    on: platform=bine\n"),
        write("templates/bine/bare.j2", f"{{#\nsection: bare\nowns: [user *]\n#}}\n{text}\n"),
    )


UNREAD = "warning: this file is not read"
FOLDER = "warning: this folder is not read"
PIPE = "it is a named pipe, not a file"
HEADING = "name,address,platform,site,role\n"
ROW = "bog-edge-1,192.0.2.31,cowl,bog,edge\n"
CELLS = "write it without, or print it with the filter 'raw' in templates/bine/system.j2"
# What is planted, the one message, and its hint (a part of it).
PLANTED: tuple[tuple[Plant, str, str], ...] = (
    # files and folders that are not read
    (write("polices/house.yaml", "policies: []\n"), f"polices: {FOLDER}", "move what it holds into 'policies'"),
    (write("Checks/a.yaml", ""), f"Checks: {FOLDER}", "move what it holds into 'checks'"),
    (write("value/a.yaml", ""), f"value: {FOLDER}", "'values'"),
    (write("template/a.j2", ""), f"template: {FOLDER}", "'templates'"),
    (write("platform/a.toml", ""), f"platform: {FOLDER}", "rename it to 'platforms'"),
    (write("intent.yaml~", ""), f"intent.yaml~: {UNREAD}", "'intent.yaml'"),
    (write("policies/house.yam", ""), f"policies/house.yam: {UNREAD}", "rename it to 'house.yaml'"),
    (write("policies/.house.yaml", ""), f"policies/.house.yaml: {UNREAD}", "hidden files are not read"),
    (write("policies/more/a.yaml", ""), f"policies/more: {FOLDER}", "move its files into policies/"),
    (write("values/device/a.yaml", ""), f"values/device: {FOLDER}", "rename it to 'devices'"),
    (write("values/devices/mast-edge-1.yaml~", ""), f"values/devices/mast-edge-1.yaml~: {UNREAD}", "move it out"),
    (write("values/extra.j2", ""), f"values/extra.j2: {UNREAD}", "move it to templates/PLATFORM/"),
    (write("values/lab.toml", ""), f"values/lab.toml: {UNREAD}", "move it to platforms/"),
    (write("values/rows.csv", ""), f"values/rows.csv: {UNREAD}", "move it to inventory/"),
    (write("inventory/devices.txt", ""), f"inventory/devices.txt: {UNREAD}", "rename it to 'devices.yaml'"),
    (write("templates/macros.j2", ""), f"templates/macros.j2: {UNREAD}", "move it to templates/PLATFORM/"),
    (write("templates/bin/system.j2", ""), f"templates/bin: {FOLDER}", "rename it to 'bine'"),
    (write("templates/bine/ntp.tml", ""), f"templates/bine/ntp.tml: {UNREAD}", "rename it to 'ntp.j2'"),
    (write("platforms", ""), "platforms: 'platforms' must be a folder", "remove it"),
    # what is no text file
    (pipe("values/a.yaml"), f"values/a.yaml: cannot read the file: {PIPE}", "move it out"),
    (pipe("intent.yaml"), f"intent.yaml: cannot read the file: {PIPE}", "move it out"),
    (pipe("inventory/a.csv"), f"inventory/a.csv: cannot read the file: {PIPE}", "move it out"),
    (pipe("inventory/a.source.yaml"), f"inventory/a.source.yaml: cannot read the file: {PIPE}", "move it out"),
    (pipe("values/devices/mast-edge-1.yaml"), f"values/devices/mast-edge-1.yaml: cannot read the file: {PIPE}", ""),
    (pipe("policies/a.yml"), f"policies/a.yml: cannot read the file: {PIPE}", "move it out"),
    (pipe("checks/a.yaml"), f"checks/a.yaml: cannot read the file: {PIPE}", "move it out"),
    (pipe("checks/a"), "checks/a: this is a named pipe, not a file", "move it out"),
    (pipe(COWL), f"{COWL}: cannot read the file: {PIPE}", "move it out"),
    (pipe("known_hosts"), f"known_hosts: cannot read the trusted host keys: {PIPE}", ""),
    (write("values/big.yaml", "#" * 5_000_001), "values/big.yaml: the file has 5.0 MB, more than 5 MB", 'large_files = ["values/big.yaml"]'),
    (write("values/a.yaml", "everywhere: {}\n".encode("utf-16")), "values/a.yaml:1: the file is UTF-16 text, not UTF-8", "save it as UTF-8"),
    (write("values/a.yaml", b"everywhere:\n  a: caf\xe9\n"), "values/a.yaml:2: the file is not UTF-8 text: byte 0xe9 in line 2", "save it as UTF-8"),
    (write("inventory/a.csv", f"{HEADING}caf\xe9,1,2,3,4\n".encode("latin-1")), "inventory/a.csv:2: the file is not UTF-8 text: byte 0xe9 in line 2", "save it"),
    (write(COWL, b"{#\n\xff#}"), f"{COWL}:2: the file is not UTF-8 text: byte 0xff in line 2", "save it as UTF-8"),
    # the inventory as CSV
    (write("inventory/a.csv", ""), "inventory/a.csv: the file is empty", "begin it with a heading"),
    (write("inventory/a.csv", HEADING.replace(",", ";")), "inventory/a.csv:1: the columns are separated by ';', not by ','", "save it with commas"),
    (write("inventory/a.csv", HEADING.replace(",", "\t")), "inventory/a.csv:1: the columns are separated by a tab, not by ','", "commas"),
    (write("inventory/a.csv", HEADING.replace("name", "nmae")), "inventory/a.csv:1: the heading has no column 'name'", "did you mean 'nmae'?"),
    (write("inventory/a.csv", HEADING.replace("site", "role")), "inventory/a.csv:1: the column 'role' is there twice", "remove or rename"),
    (write("inventory/a.csv", HEADING.replace("site", "")), "inventory/a.csv:1: a column has no name", "name every column"),
    (write("inventory/a.csv", f"{HEADING}bog-edge-2,192.0.2.32\n{ROW}"), "inventory/a.csv:2: this row has 2 cells, the heading 5", "leave a cell empty"),
    (write("inventory/a.csv", f"{HEADING}bog-edge-2,192.0.2.32,cowl,bog,edge,,\n{ROW}"), "inventory/a.csv:2: this row has 7 cells, the heading 5", ""),
    (write("inventory/a.csv", f'{HEADING}bog-edge-2,192.0.2.32,cowl,"bog,edge\n{ROW}'), "inventory/a.csv:2: a quote is not closed", "add the closing"),
    # values
    (change(VALUES, "contact: Night desk", 'contact: "desk\\n  hostname x"'), f"{VALUES}:2: 'contact' contains a line break: printed as it is, it would end its statement", CELLS),
    (change(VALUES, "contact: Night desk", "contact: desk \" 7"), f"{VALUES}:2: 'contact' contains a quote: printed as it is, it would end its statement", CELLS),
    (change(VALUES, "location: Dome", "location: 'Dome\" x'"), f"{VALUES}:13: 'location' contains a quote: printed as it is, it would end its statement", CELLS),
    (change(VALUES, "contact: Night desk", "contact:"), f"{VALUES}:2: 'contact' is empty, not text", "whom to call"),
    (change(VALUES, "location: Dome", "location: ~"), f"{VALUES}:13: 'location' is empty, not text", "where it stands"),
    (change(VALUES, "mtu: 1500", "mtu: 1500\n      mtu: 1400"), f"{VALUES}:19: duplicate key 'mtu', first in line 18", "remove one"),
    (write("values/devices/mast-edge-1.yml", "router_id: 203.0.113.9\n"), "values/devices/mast-edge-1.yml: the device 'mast-edge-1' has two files of values", "merge them"),
    (write("values/devices/mast-edge-2.yaml", "a: 1\n"), "values/devices/mast-edge-2.yaml: warning: unknown device 'mast-edge-2'; its values are not used", "did you mean 'mast-edge-1'?"),
    (both(append(VALUES, "      unit:\n"), bare("name {{ unit }}")), f"{VALUES}:19: 'unit' is empty", "leave the line out with {% if unit %} (templates/bine/bare.j2:5)"),
    (both(append(VALUES, "      unit: {a: [1, null]}\n"), bare("name {{ unit.a[1] }}")), f"{VALUES}:19: 'unit.a[1]' is empty", "write a value"),
    (both(append(VALUES, "      unit: [1, null]\n"), bare("{% for x in unit %}{{ x }}{% endfor %}")), "templates/bine/bare.j2:5: the value is empty", "write a value"),
    # values that nothing uses
    (change(VALUES, "  location: Heath", "  locatoin: x\n  location: Heath"), f"{VALUES}:3: warning: nothing uses the value 'locatoin'", "did you mean 'location'?"),
    (change(VALUES, "      location: Dome", "      location: Dome\n      mtuu: 7"), f"{VALUES}:14: warning: nothing uses the value 'mtuu'", "did you mean 'mtu'?"),
    (change(VALUES, "      name_servers: [192.0.2.55]", "      name_servers: [192.0.2.55]\n      watcherz: [7]"), f"{VALUES}:16: warning: nothing uses the value 'watcherz'", "remove it"),
    (write("values/devices/dome-core-1.yaml", "router_id: 203.0.113.1\neverywhere: {mtu: 1400}\n"), "values/devices/dome-core-1.yaml:2: warning: nothing uses the value 'everywhere'", "for the device 'dome-core-1' alone"),
    (append("values/devices/dome-core-1.yaml", "device: 7\n"), "values/devices/dome-core-1.yaml:2: a value cannot be called 'device': templates have the device itself by that name", "rename"),
    (change(VALUES, "everywhere:", "everywhere:\n  network: 7"), f"{VALUES}:2: a value cannot be called 'network': templates have the network itself by that name", "rename"),
    (append(VALUES, "  - on: role=border\n    values: {mtu: 9000}\n"), f"{VALUES}:19: warning: no device has role=border", "did you mean"),
    (append(VALUES, "  - on: role=core and site=shed\n    values: {mtu: 9000}\n"), f"{VALUES}:19: warning: no device matches this rule: role=core and site=shed", "correct or remove"),
    (append(VALUES, "  - on: role=core and\n    values: {mtu: 9000}\n"), f"{VALUES}:19: the selector is incomplete: an attribute such as role is missing at its end", ""),
    # templates
    (change(BINE, '  location "', '  location "x"\n  location "'), f"{BINE}:14: 'location' is set twice, to different values", f"it is set first at {BINE}:13"),
    (append(COWL, "/system/contact = desk\n"), f"{COWL}:15: 'contact' is set twice, to different values", f"it is set first at {COWL}:10"),
    (append(BINE, "  contakt x\n"), f"{BINE}:19: 'contakt' is not a statement below 'system'", "did you mean 'contact'?"),
    (move("templates/cowl/time.j2", "templates/cowl/tmie.j2"), "intent.yaml:3: the section 'time' has no template for the platform 'cowl'", "did you mean 'tmie'?"),
    (write("intent.yml", "sections: []\n"), "intent.yml: there is intent.yaml and intent.yml", "remove one of the two"),
)  # fmt: skip
# What is no mistake at all.
FINE: tuple[Plant, ...] = (
    move(VALUES, "values/network.yml"),
    move("intent.yaml", "intent.yml"),
    move("inventory/devices.yaml", "inventory/devices.yml"),
    move("policies/house.yaml", "policies/house.yml"),
    move("checks/network.yaml", "checks/network.yml"),
    move("values/devices/mast-edge-1.yaml", "values/devices/mast-edge-1.yml"),
    write("README.md", "# Heath\n"),
    write("values/README.md", "# Values\n"),
    write("values/.gitkeep", ""),
    write("scripts/render.sh", "#!/bin/sh\n"),
    write("values/a.yaml", b"\xef\xbb\xbfeverywhere: {}\n"),
    write("values/a.yaml", "everywhere:\r\n  contact: Day desk\r\n"),
    write("inventory/a.csv", HEADING),
    write("inventory/a.csv", f"\n{HEADING}\n"),
    change(BINE, "#}\nsystem\n", "#}\n{% include 'part.txt' ignore missing %}\nsystem\n"),
    change(VALUES, "contact: Night desk", 'contact: "it\'s 7 & <more>; {x}"'),
    change(BINE, '  location "{{ location }}"', '  location "{{ location }}"\n  location "{{ location }}"'),
    change("oast.toml", "[connection]", 'large_files = ["values/*.yaml"]\n[connection]'),
)


def shown(problem: Problem) -> str:
    place = f"{problem.place}: " if problem.place else ""
    return f"{place}{'warning: ' if problem.is_warning else ''}{problem.message}"


class PlantedMistakesTest(unittest.TestCase):
    def setUp(self) -> None:
        self._folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-heath-")))

    def found(self, plant: Plant | None = None) -> list[Problem]:
        estate = self._folder / "heath"
        shutil.rmtree(estate, ignore_errors=True)
        shutil.copytree(HEATH, estate)
        if plant is not None:
            plant(estate)
        return list(lint_estate(estate, {"OAST_SECRET_LOGIN": "x"}).problems)

    def test_the_estate_has_no_mistake(self) -> None:
        self.assertEqual(self.found(), [])

    def test_each_gives_one_message_at_its_cause(self) -> None:
        for plant, expected, hint in PLANTED:
            with self.subTest(expected=expected):
                found = self.found(plant)
                self.assertEqual([shown(one) for one in found], [expected])
                self.assertIn(hint, found[0].hint or "")

    def test_what_is_no_mistake_gives_none(self) -> None:
        for number, plant in enumerate(FINE):
            with self.subTest(number=number):
                self.assertEqual([shown(one) for one in self.found(plant)], [])

    def test_a_value_of_the_command_line_that_nothing_uses_is_refused_everywhere(self) -> None:
        self.found()
        estate = self._folder / "heath"
        for key, told in (
            ("mtuu", "nothing uses the value 'mtuu'"),
            ("mtu.size", None),
            ("name_servrs[0]", "nothing uses the value 'name_servrs'"),
        ):
            problems = lint_estate(estate, {"OAST_SECRET_LOGIN": "x"}, given=[(key, 1400)]).problems
            unused = [one.message for one in problems if "nothing uses" in one.message]
            self.assertEqual(unused, [f"--with: {told}"] if told else [])
        with self.assertRaisesRegex(EstateError, "nothing uses the value 'mtuu'"):
            load_estate(estate, {"OAST_SECRET_LOGIN": "x"}, given=[("mtuu", 1400)])

    def test_a_value_that_is_printed_raw_may_add_statements(self) -> None:
        def plant(estate: Path) -> None:
            change(BINE, 'contact "{{ contact }}"', "contact {{ contact | raw }}")(estate)
            change(COWL, '"{{ contact }}"', "{{ contact | replace('\n', ' ') }}")(estate)
            change(VALUES, "contact: Night desk", 'contact: "desk\\n  timezone-name UTC"')(estate)

        self.assertEqual([shown(one) for one in self.found(plant)], [])


if __name__ == "__main__":
    unittest.main()
