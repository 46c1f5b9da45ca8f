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
DEVICES, CHECKS, POLICIES = "inventory/devices.yaml", "checks/network.yaml", "policies/house.yaml"
LOOPBACK = "templates/bine/loopback.j2"
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
    # settings that a delivery would refuse
    (append("oast.toml", "\n[delivery]\nrevert_timer_s = 10\nverify_timeout_s = 30\n"), "oast.toml:9: a revert timer of 10 s is too short for 30 s of checks", "set it to at least 33 s"),
    (append("oast.toml", '\n[delivery]\nallowed_signers = "nowhere"\n'), "oast.toml:9: the file of allowed signers nowhere does not exist", "correct 'allowed_signers'"),
    (append("oast.toml", '\n[delivery.limits]\nlast_of = ["usr"]\n'), "oast.toml:9: no platform of the estate has a list 'usr'", "did you mean 'user'?"),
    # the inventory, values, intent, templates, checks, policies and settings, word by word
    (change(DEVICES, "devices:", "device:"), "inventory/devices.yaml:1: unknown key 'device' in an inventory file", "did you mean 'devices'?"),
    (change(DEVICES, "devices:\n", ""), 'inventory/devices.yaml:6: only one YAML document per file', 'remove the line, or split the file'),
    (change(DEVICES, "address: 192.0.2.11", "adress: 192.0.2.11"), "inventory/devices.yaml:4: the device 'mast-edge-1' has no 'address'", "add 'address: ...' below its name"),
    (change(DEVICES, "address: 192.0.2.11", "address: 192.0.2.999"), "inventory/devices.yaml:4: '192.0.2.999' is not an address", ''),
    (change(DEVICES, "address: 192.0.2.11", "address:"), "inventory/devices.yaml:4: missing ':' after the name", "write 'name: value', with a space after the colon"),
    (change(DEVICES, "platform: bine, site: mast", "platform: bin, site: mast"), "inventory/devices.yaml:4: unknown platform 'bin'", "did you mean 'bine'?"),
    (change(DEVICES, "platform: bine, site: mast", "platform: , site: mast"), "inventory/devices.yaml:4: the device 'mast-edge-1' has no 'platform'", "add 'platform: ...' below its name"),
    (change(DEVICES, "mast-edge-1: {", "mast-edge-1: {port: ssh, "), "inventory/devices.yaml:4: 'port' must be a number from 1 to 65535", ''),
    (change(DEVICES, "mast-edge-1: {", "mast-edge-1: {name: x, "), "inventory/devices.yaml:4: 'name' is not an attribute; the key of the entry is the device's name", 'remove this line'),
    (change(DEVICES, "  shed-switch-1", "  dome-core-1"), "inventory/devices.yaml:5: duplicate key 'dome-core-1', first in line 2", 'remove one of them, or check the indentation'),
    (change(DEVICES, "[dome-core-1 port2, mast-edge-1 port1]", "[dome-core-1 port2, mast-edge-2 port1]"), "inventory/devices.yaml:9: there is no device 'mast-edge-2'", "did you mean 'mast-edge-1'?"),
    (change(DEVICES, "[dome-core-1 port2, mast-edge-1 port1]", "[dome-core-1 port1, mast-edge-1 port1]"), 'inventory/devices.yaml:9: dome-core-1 port1 already has a link in inventory/devices.yaml:8', 'remove one of the two: an interface has one link'),
    (change(DEVICES, "[dome-core-1 port2, mast-edge-1 port1]", "[dome-core-1, mast-edge-1]"), 'inventory/devices.yaml:9: this is not a link', "write '- [DEVICE INTERFACE, DEVICE INTERFACE]'"),
    (change(DEVICES, "[dome-core-1 port2, mast-edge-1 port1]", "dome-core-1 port2 - mast-edge-1 port1"), 'inventory/devices.yaml:9: this is not a link', "write '- [DEVICE INTERFACE, DEVICE INTERFACE]'"),
    (change(DEVICES, "links:", "link:"), "inventory/devices.yaml:7: unknown key 'link' in an inventory file", "did you mean 'links'?"),
    (append(DEVICES, "  - [dome-core-1 port3, dome-core-1 port3]\n"), 'inventory/devices.yaml:10: dome-core-1 port3 already has a link in inventory/devices.yaml:10', 'remove one of the two: an interface has one link'),
    (write("inventory/more.yaml", "devices:\n  dome-core-1: {address: 192.0.2.9, platform: bine}\n"), "inventory/more.yaml:2: duplicate device 'dome-core-1', also in inventory/devices.yaml:2", 'remove one of the two'),
    (write("inventory/more.yaml", "devices:\n  bog-1: {address: 192.0.2.9, platform: cowl, site: {a: 1}}\n"), "inventory/more.yaml:2: the attribute 'site' must be a value or a list of values", 'move data for templates to values/'),
    (change(VALUES, "everywhere:", "everywere:"), "values/network.yaml:1: unknown key 'everywere' in a values file", "put values below 'everywhere:' or in 'rules:'"),
    (change(VALUES, "rules:", "rule:"), "values/network.yaml:10: unknown key 'rule' in a values file", "put values below 'everywhere:' or in 'rules:'"),
    (change(VALUES, "  - on: role=core", "  - om: role=core"), "values/network.yaml:11: this rule has no 'on:' selector", "begin it with '- on: SELECTOR'"),
    (change(VALUES, "    extend:", "    extends:"), "values/network.yaml:14: unknown key 'extends' in a rule", "did you mean 'extend'?"),
    (change(VALUES, "    values:\n      location", "    value:\n      location"), "values/network.yaml:12: unknown key 'value' in a rule", "did you mean 'values'?"),
    (change(VALUES, "name_servers: [192.0.2.53, 192.0.2.54]", "name_servers: [192.0.2.53, 192.0.2.540]"), "values/network.yaml:5: 'name_servers[1]' is '192.0.2.540', not an IP address", 'correct the value (declared in templates/bine/system.j2:8)'),
    (change(VALUES, "name_servers: [192.0.2.53, 192.0.2.54]", "name_servers: []"), "values/network.yaml:5: 'name_servers' has 0 items, and needs at least 1", 'add items (declared in templates/bine/system.j2:8)'),
    (change(VALUES, "name_servers: [192.0.2.53, 192.0.2.54]", "name_servers: [192.0.2.53, null]"), "values/network.yaml:5: 'name_servers[1]' is empty, not an IP address", 'correct the value (declared in templates/bine/system.j2:8)'),
    (change(VALUES, "prefer: true", "prefer: yes"), "values/network.yaml:7: 'time_servers[0].prefer' is 'yes', not true or false", 'correct the value (declared in templates/bine/time.j2:7)'),
    (change(VALUES, "prefer: true", "perfer: true"), "values/network.yaml:7: 'time_servers[0]' has 'perfer', which is not declared", "did you mean 'prefer'? (declared in templates/bine/time.j2:5)"),
    (change(VALUES, "mtu: 1500", "mtu: many"), "values/network.yaml:18: 'mtu' is 'many', not a whole number", 'correct the value (declared in templates/bine/loopback.j2:6)'),
    (change(VALUES, "mtu: 1500", "mtu: 15"), "templates/bine/loopback.j2:10: '15' is not a whole number from 576 to 9216", ''),
    (change(VALUES, "mtu: 1500", "mtu: 1500.5"), "values/network.yaml:18: 'mtu' is '1500.5', not a whole number", 'correct the value (declared in templates/bine/loopback.j2:6)'),
    (change(VALUES, "location: Dome", "location: '{{ sight }}'"), "values/network.yaml:13: cannot evaluate 'location': 'sight' is not defined", 'known here: contact, domain, location, mtu, name_servers, router_id, time_servers'),
    (change(VALUES, "location: Dome", "location: '{{ contact'"), "values/network.yaml:13: the expression in 'location' has an error: '{{' is not closed", "add '}}'"),
    (change(VALUES, "  domain: heath.example\n", ""), "templates/bine/system.j2:7: the section 'system' needs the value 'domain', which is not defined", 'define it in values/: the domain of the observatory'),
    (change(VALUES, "contact: Night desk", "contact: [a, b]"), "values/network.yaml:2: 'contact' is a list, not text", 'whom to call about the device (declared in templates/bine/system.j2:5)'),
    (change(VALUES, "role=core", "rol=core"), "values/network.yaml:11: warning: no device has the attribute 'rol'", "did you mean 'role'?"),
    (write("values/devices/mast-edge-1.yaml", "router_id: 203.0.113.1\n"), 'templates/bine/loopback.j2:12: duplicate address 203.0.113.1, also on dome-core-1 interface loop0', 'the other one comes from templates/bine/loopback.j2:12'),
    (write("values/devices/mast-edge-1.yaml", "router_id: 203.0.113.300\n"), "values/devices/mast-edge-1.yaml:1: 'router_id' is '203.0.113.300', not an IPv4 address", 'correct the value (declared in templates/bine/loopback.j2:5)'),
    (write("values/devices/mast-edge-1.yaml", "- router_id\n"), "values/devices/mast-edge-1.yaml:1: the file must contain 'name: value' lines", ''),
    (write("values/devices/mast-edge-1.yaml", ""), "templates/bine/loopback.j2:5: the section 'loopback' needs the value 'router_id', which is not defined", 'define it in values/: an IPv4 address'),
    (change("intent.yaml", "sections:", "section:"), "intent.yaml: 'sections' must list at least one '- section: NAME'", ''),
    (write("intent.yaml", ""), "intent.yaml: 'sections' must list at least one '- section: NAME'", ''),
    (change("intent.yaml", "- section: time", "- section: system"), "intent.yaml:3: the section 'system' is listed twice", "merge them, with 'or' in 'on'"),
    (change("intent.yaml", "- section: time", "- time"), "intent.yaml:3: this must be '- section: NAME'", ''),
    (change("intent.yaml", "    on: platform=bine", "    om: platform=bine"), "intent.yaml:5: unknown key 'om'", 'known here: on, section'),
    (change("intent.yaml", "    on: platform=bine", "    on: platform=bin"), 'intent.yaml:5: no device has platform=bin', "did you mean 'bine'?"),
    (change("intent.yaml", "    on: platform=bine", "    on: platform="), 'intent.yaml:5: the selector is incomplete: a value is missing at its end', ''),
    (change(BINE, "section: system", "section: sytem"), "templates/bine/system.j2:2: the header names the section 'sytem', the file 'system'", ''),
    (change(BINE, "owns: [system]", "own: [system]"), "templates/bine/system.j2:3: unknown key 'own' in a header", "did you mean 'owns'?"),
    (change(BINE, "owns: [system]", "owns: [sytem]"), "templates/bine/system.j2:3: the section owns 'sytem', but 'sytem' is not a statement at the top level", "did you mean 'system'?"),
    (change(BINE, "owns: [system]", "owns: system"), "templates/bine/system.j2:3: 'owns' is missing in the header", "add for example 'owns: [ntp]'"),
    (change(BINE, "owns: [system]", "owns: [system, ntp]"), "templates/bine/time.j2:3: 'ntp' is already owned by the section 'system' (templates/bine/system.j2)", 'remove it from one of the headers, or divide it into parts'),
    (change(BINE, "#}", ""), 'templates/bine/system.j2:1: the comment at the beginning is not closed', "end the header with '#}'"),
    (change(BINE, "{{ contact }}", "{{ contct }}"), "templates/bine/system.j2:12: the template uses 'contct', which its header does not declare", "did you mean 'contact'?"),
    (change(BINE, "{{ contact }}", "{{ contact"), "templates/bine/system.j2:12: the template has an error: '{{' is not closed", "add '}}'"),
    (change(BINE, "{% endfor %}", ""), "templates/bine/system.j2:16: the template has an error: '{% for %}' is not closed", "add '{% endfor %}'"),
    (change(BINE, "  contact: {help", "  contat: {help"), "templates/bine/system.j2:12: the template uses 'contact', which its header does not declare", "did you mean 'contat'?"),
    (change(BINE, "of: ip-address", "of: ip-adress"), "templates/bine/system.j2:8: the variable 'name_servers item' has the unknown type 'ip-adress'", "did you mean 'ip-address'?"),
    (change(BINE, "least: 1", "lest: 1"), "templates/bine/system.j2:8: unknown key 'lest' in the variable 'name_servers'", "did you mean 'least'?"),
    (change(BINE, "  domain: {", "  spare: {default: 7}\n  domain: {"), "templates/bine/system.j2:7: warning: the template never uses the variable 'spare'", 'remove it, or use it'),
    (change(BINE, "  hostname {{ device.name }}", "  hostname {{ device.nam }}"), "templates/bine/system.j2:11: 'device.nam' is not defined", "did you mean 'name'?"),
    (change(BINE, "  dns-resolver", "  dns-resolver extra"), "templates/bine/system.j2:14: unexpected 'extra' after 'dns-resolver'", 'put text with spaces in quotes'),
    (change(BINE, "{% for server in name_servers %}", "{% include 'no.j2' %}\n{% for server in name_servers %}"), "templates/bine/system.j2:16: cannot render the template: cannot find the included template 'no.j2'", 'included templates must be in the templates folder'),
    (both(write("templates/bine/part.j2", "x\n{{ nothing_here }}\n"), change(BINE, "#}\nsystem", "#}\n{% include 'part.j2' %}\nsystem")), "templates/bine/part.j2:2: 'nothing_here' is not defined", 'known here: contact, device, domain, location, mtu, name_servers, network, router_id, …'),
    (both(write("templates/bine/m.j2", "{% macro a() %}\n{{ nothing_here }}\n{% endmacro %}\n"), change(BINE, "#}\nsystem", "#}\n{% import 'm.j2' as m %}\nsystem\n{{ m.a() }}")), "templates/bine/m.j2:2: 'nothing_here' is not defined", 'known here: contact, device, domain, location, mtu, name_servers, network, router_id, …'),
    (both(write("templates/bine/spare.j2", "{#\nsection: spare\nowns: [user *]\n#}\n")), 'templates/bine/spare.j2: warning: no section uses this template', "list it in intent.yaml: '- section: spare', or remove it"),
    (change(LOOPBACK, "  mtu {{ mtu }}\n", ""), "templates/bine/loopback.j2:6: warning: the template never uses the variable 'mtu'", 'remove it, or use it'),
    (change(CHECKS, "checks:", "check:"), "checks/network.yaml:1: unknown key 'check'", "did you mean 'checks'?"),
    (change(CHECKS, "reading: ntp", "reading: ntpp"), "checks/network.yaml:5: the platform 'bine' has no reading 'ntpp'", "did you mean 'ntp'?"),
    (change(CHECKS, "where: {state", "where: {stat"), "checks/network.yaml:6: the reading 'ntp' has no field 'stat'", "did you mean 'state'?"),
    (change(CHECKS, "least: 1", "lest: 1"), "checks/network.yaml:7: unknown key 'lest' in a check", "did you mean 'least'?"),
    (change(CHECKS, "least: 1", "least: many"), "checks/network.yaml:7: 'least' must be a whole number", ''),
    (change(CHECKS, "on: role=core", "on: role=cor"), 'checks/network.yaml:3: no device has role=cor', "did you mean 'core'?"),
    (change(CHECKS, "on: role=core", "on: role=wan"), 'checks/network.yaml:3: no device has role=wan', 'known here: access, core, edge'),
    (change(CHECKS, "section: time", "section: tiem"), "checks/network.yaml:2: unknown section 'tiem'", "did you mean 'time'?"),
    (append(CHECKS, "  - check: time-in-sync\n    reading: ntp\n    least: 1\n"), "checks/network.yaml:8: there is another check 'time-in-sync' in checks/network.yaml:2", 'rename or remove one of the two'),
    (write("checks/a.yaml", "policies: []\n"), "checks/a.yaml:1: unknown key 'policies'", 'known here: checks'),
    (change(POLICIES, "policies:", "polices:"), "policies/house.yaml:1: unknown key 'polices'", "did you mean 'policies'?"),
    (change(POLICIES, "must_contain: ntp", "must_contian: ntp"), "policies/house.yaml:3: unknown key 'must_contian' in a policy", "did you mean 'must_contain'?"),
    (change(POLICIES, "must_contain: ntp", "must_contain: ntpp"), "policies/house.yaml:2: policy 'time-is-set': the configuration has no 'ntpp'", 'meet the policy in policies/house.yaml:2, or add a waiver to it'),
    (change(POLICIES, "must_contain: ntp", "must_contain: snmp"), "policies/house.yaml:2: policy 'time-is-set': the configuration has no 'snmp'", 'meet the policy in policies/house.yaml:2, or add a waiver to it'),
    (change(POLICIES, "on: platform=bine", "on: platform=binge"), 'policies/house.yaml:5: no device has platform=binge', "did you mean 'bine'?"),
    (change(POLICIES, "must_contain: ntp", "must_contain: ntp\n    severity: warnin"), "policies/house.yaml:4: the severity must be error or warning, not 'warnin'", ''),
    (append(POLICIES, "  - policy: time-is-set\n    must_contain: system\n"), "policies/house.yaml:7: there is another policy 'time-is-set' in policies/house.yaml:2", 'rename or remove one of the two'),
    (change("oast.toml", "format = 1", "format = 2"), "oast.toml:1: the file must begin with 'format = 1'", ''),
    (change("oast.toml", "format = 1", ""), "oast.toml:1: the file must begin with 'format = 1'", ''),
    (change("oast.toml", "[connection]", "[conection]"), "oast.toml:4: unknown key 'conection' in the settings", "did you mean 'connection'?"),
    (change("oast.toml", "username", "user_name"), "oast.toml:5: unknown key 'user_name' in [connection]", "did you mean 'username'?"),
    (change("oast.toml", "\"oast\"", "oast"), 'oast.toml:5: the file is not valid TOML: Invalid value (at line 5, column 12)', ''),
    (append("oast.toml", "\n[delivery]\nrevert_timer_s = \"long\"\n"), "oast.toml:9: 'revert_timer_s' must be a number above 0", ''),
    (append("oast.toml", "\n[delivery]\nwaves = [\"role=wan\"]\n"), 'oast.toml:9: no device has role=wan', 'known here: access, core, edge'),
    (append("oast.toml", "\n[delivery]\napart = \"sight\"\n"), "oast.toml:9: no device has the attribute 'sight' of 'apart'", "did you mean 'site'?"),
    (append("oast.toml", "\n[inventory]\nin_service = \"rol=core\"\n"), "oast.toml:9: no device has the attribute 'rol'", "did you mean 'role'?"),
    (append("oast.toml", "\n[[connection.rules]]\non = \"role=wan\"\n"), 'oast.toml:9: the rule sets nothing', 'add a setting, such as username or command_timeout_s'),
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

    def test_of_an_untrusted_estate_no_file_outside_is_looked_for(self) -> None:
        self.found(append("oast.toml", '\n[delivery]\nallowed_signers = "/nowhere/signers"\n'))
        problems = lint_estate(self._folder / "heath", {}, untrusted=True).problems
        self.assertEqual([one.message for one in problems if "signers" in one.message], [])

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
        with self.assertRaisesRegex(EstateError, "a value cannot be called 'device'"):
            load_estate(estate, {"OAST_SECRET_LOGIN": "x"}, given=[("device", 7)])
        with self.assertRaisesRegex(EstateError, "nothing uses the value 'mtuu'"):
            load_estate(estate, {"OAST_SECRET_LOGIN": "x"}, given=[("mtuu", 1400)])

    def test_without_a_grammar_a_value_may_have_quotes_and_may_not_have_lines(self) -> None:
        def plain(contact: str) -> Plant:
            platform = '[platform]\nname = "plain"\nquotes = false\n[session]\nprompts = { user = "plain# " }\n[edit]\nrunning = "show"\n'
            return both(
                write("platforms/plain.toml", f"format = 2\n{platform}"),
                change(DEVICES, "platform: cowl", "platform: plain"),
                write(
                    "templates/plain/system.j2",
                    '{#\nsection: system\nowns: ["*"]\n#}\ncontact {{ contact }}\n',
                ),
                change("intent.yaml", "  - section: time", "  - section: time\n    on: platform=bine"),
                change(POLICIES, "  - policy: time-is-set", "  - policy: time-is-set\n    on: platform=bine"),
                change(VALUES, "contact: Night desk", f"contact: {contact}"),
                change(BINE, '"{{ contact }}"', "\"{{ contact | replace('\\n', '') | replace('\"', '') }}\""),
            )

        self.assertEqual([shown(one) for one in self.found(plain("'a \"desk\"; {b}'"))], [])
        [problem] = self.found(plain('"a\\nb"'))
        self.assertIn("'contact' contains a line break", problem.message)

    def test_an_empty_value_that_is_not_required_is_not_defined(self) -> None:
        def plant(estate: Path) -> None:
            change(BINE, "{help: whom to call about the device}", "{required: false}")(estate)
            change(
                BINE,
                '  contact "{{ contact }}"',
                '{% if contact is defined %}\n  contact "{{ contact }}"\n{% endif %}',
            )(estate)
            change(COWL, "  contact: {help: whom to call about the device}", "  contact: {required: false}")(
                estate
            )
            change(
                COWL,
                '/system/contact = "{{ contact }}"',
                "/system/contact = {{ 'none' if contact is not defined else contact }}",
            )(estate)
            change(VALUES, "contact: Night desk", "contact:")(estate)

        self.assertEqual([shown(one) for one in self.found(plant)], [])

    def test_a_value_that_is_printed_raw_may_add_statements(self) -> None:
        def plant(estate: Path) -> None:
            change(BINE, 'contact "{{ contact }}"', "contact {{ contact | raw }}")(estate)
            change(COWL, '"{{ contact }}"', "{{ contact | replace('\n', ' ') }}")(estate)
            change(VALUES, "contact: Night desk", 'contact: "desk\\n  timezone-name UTC"')(estate)

        self.assertEqual([shown(one) for one in self.found(plant)], [])


if __name__ == "__main__":
    unittest.main()
