"""Mistakes in YAML and in Jinja2: the exact words a person gets. What is wrong, where, the line as written, the likely fix."""

from __future__ import annotations

import re

from larkwater import EstateTest

# Each with the text, and what is told about it: `LINE: message`, the line as written behind `| `, and the likely fix.
YAML = (
    # tab
    ('everywhere:\n\tdesk: 7\n', '2: the indentation contains a tab\n| \\tdesk: 7\nuse spaces; YAML does not allow tabs there'),
    # tab after space
    ('everywhere:\n  desk:\n  \tnight: 7\n', '3: the indentation contains a tab\n|   \\tnight: 7\nuse spaces; YAML does not allow tabs there'),
    # missing space after colon
    ('everywhere:\n  desk:7\n', "2: a space is missing after the ':'\n|   desk:7\nwrite 'desk: 7'"),
    # missing space after colon in the middle
    ('everywhere:\n  pier: 2\n  desk:7\n  quay: 3\n', "3: a space is missing after the ':'\n|   desk:7\nwrite 'desk: 7'"),
    # missing space, first
    ('everywhere:\n  desk:7\n  quay: 3\n', "2: a space is missing after the ':'\n|   desk:7\nwrite 'desk: 7'"),
    # missing space top
    ('everywhere:{}\n', "1: the file must contain 'name: value' lines\na space is missing after the ':'; write 'everywhere: {}'"),
    # missing space in flow
    ('everywhere:\n  desk: {night:7}\n', "2: a space is missing after the ':'\n|   desk: {night:7}\nwrite 'night: 7'"),
    # missing space after dash
    ('everywhere:\n  desks:\n    -one\n    -two\n', "3: a space is missing after the '-'\n|     -one\nwrite '- ' before each item"),
    # unquoted colon
    ('everywhere:\n  desk: pier 2: night\n', "2: this line has a second ':'\n|   desk: pier 2: night\nput the text after the first ':' in quotes"),
    # unquoted brace
    ('everywhere:\n  desk: {{ site_name }}\n', '2: a value cannot begin with \'{{\' or \'{%\' in YAML: that opens a mapping\n|   desk: {{ site_name }}\nput all of it in quotes: "{{ site_name }}"'),
    # unquoted brace with text
    ('everywhere:\n  desk: {{ site_name }} desk\n', '2: a value cannot begin with \'{{\' or \'{%\' in YAML: that opens a mapping\n|   desk: {{ site_name }} desk\nput all of it in quotes: "{{ site_name }} desk"'),
    # expression list item
    ('everywhere:\n  desk:\n    - {{ site_name }}\n', '3: a value cannot begin with \'{{\' or \'{%\' in YAML: that opens a mapping\n|     - {{ site_name }}\nput all of it in quotes: "{{ site_name }}"'),
    # unquoted percent
    ('everywhere:\n  desk: %night\n', "2: text cannot begin with '%' in YAML\n|   desk: %night\nput it in quotes"),
    # unquoted at
    ('everywhere:\n  desk: @night\n', "2: text cannot begin with '@' in YAML\n|   desk: @night\nput it in quotes"),
    # unquoted star
    ('everywhere:\n  desk: *night\n', "2: text cannot begin with '*' or '&' in YAML\n|   desk: *night\nput the text in quotes"),
    # unquoted backtick
    ('everywhere:\n  desk: `night\n', "2: text cannot begin with '`' in YAML\n|   desk: `night\nput it in quotes"),
    # unquoted bang
    ('everywhere:\n  desk: !night\n', "2: the YAML tag '!night' is not allowed here\nput the text in quotes"),
    # wrong indentation deeper
    ('everywhere:\n  desk: 7\n   quay: 2\n', '3: this line is indented too far\n|    quay: 2\nalign it with the lines around it, or complete the line above'),
    # wrong indentation shallower
    ('everywhere:\n    desk: 7\n  quay: 2\n', '3: the indentation does not match the lines above\n|   quay: 2\nalign this line with the lines it belongs to'),
    # list under-indented
    ('everywhere:\n  desks:\n    - one\n   - two\n', '4: the indentation does not match the lines above\n|    - two\nalign this line with the lines it belongs to'),
    # duplicate
    ('everywhere:\n  desk: 7\n  desk: 8\n', "3: duplicate key 'desk', first in line 2\n|   desk: 8\nremove one of them, or check the indentation"),
    # unclosed quote
    ('everywhere:\n  desk: "7\n  quay: 2\n', '2: a quote is not closed\n|   desk: "7\nadd the closing quote'),
    # unclosed single
    ("everywhere:\n  desk: 'night's\n  quay: 2\n", "2: text follows the closing quote\n|   desk: 'night's\nput all of it in quotes; write a quote inside '...' twice: ''"),
    # unclosed bracket
    ('everywhere:\n  desk: [1, 2\n  quay: 2\n', "2: '[' is not closed\n|   desk: [1, 2\nclose it, or put the text in quotes"),
    # unclosed brace
    ('everywhere:\n  desk: {a: 1\n  quay: 2\n', "2: '{' is not closed\n|   desk: {a: 1\nclose it, or put the text in quotes"),
    # extra bracket
    ('everywhere:\n  desk: [1, 2]]\n', "2: ']' or '}' without an opening bracket\n|   desk: [1, 2]]\nremove it, or put the text in quotes"),
    # bad escape
    ('everywhere:\n  desk: "C:\\pier"\n', '2: \'\\p\' is not a valid escape inside double quotes\n|   desk: "C:\\pier"\nuse single quotes, or write \'\\\\\' for \'\\\''),
    # text after quote
    ('everywhere:\n  desk: "night" desk\n', "2: text follows the closing quote\n|   desk: \"night\" desk\nput all of it in quotes; write a quote inside '...' twice: ''"),
    # not a mapping
    ('- everywhere\n', "1: the file must contain 'name: value' lines"),
    # just text
    ('everywhere\n', "1: the file must contain 'name: value' lines"),
    # list and map mixed
    ('everywhere:\n  desk:\n    - one\n    two: 2\n', "4: this line must begin with '- ', like the list items above\n|     two: 2\nadd '- ', or fix the indentation"),
    # bytes
    ('everywhere:\n  desk: \x00\n', '2: control character U+0000\n|   desk: \\x00\nremove it; it may come from pasted text'),
    # two documents
    ('everywhere:\n  desk: 1\n---\neverywhere: {}\n', '3: only one YAML document per file\n| ---\nremove the line, or split the file'),
)  # fmt: skip

# What follows a header of four lines.
TEMPLATES = (
    # unclosed block for
    ('{% for r in [1] %}\nstatic-route 198.51.100.0/24\n', "5: the template has an error: '{% for %}' is not closed\n| {% for r in [1] %}\nadd '{% endfor %}'"),
    # unclosed if in for
    ('{% for r in [1] %}\n{% if r %}\nx\n{% endfor %}\n', "6: the template has an error: '{% if %}' is not closed before '{% endfor %}' in line 8\n| {% if r %}\nadd '{% endif %}'"),
    # endif without
    ('x\n{% endif %}\n', "6: the template has an error: '{% endif %}' has no opening tag\n| {% endif %}\nremove it, or add the opening tag"),
    # elseif
    ('{% if a %}\nx\n{% elseif b %}\n{% endif %}\n', "7: the template has an error: unknown tag '{% elseif %}'\n| {% elseif b %}\nwrite 'elif'"),
    # unknown tag
    ('{% foreach x in y %}\n{% endfor %}\n', "5: the template has an error: unknown tag '{% foreach %}'\n| {% foreach x in y %}\nwrite 'for'"),
    # unclosed variable
    ('static-route {{ area\n  next-hop 192.0.2.1\n', "5: the template has an error: '{{' is not closed\n| static-route {{ area\nadd '}}'"),
    # single brace end
    ('static-route {{ area }\n  next-hop 192.0.2.1\n', "5: the template has an error: '{{' is closed by only one '}'\n| static-route {{ area }\nwrite '}}'"),
    # unclosed tag
    ('{% for r in [1]\nx\n{% endfor %}\n', "5: the template has an error: '{%' is not closed\n| {% for r in [1]\nadd '%}'"),
    # comment not closed
    ('{# note\nstatic-route 1\n', "5: the template has an error: '{#' is not closed\n| {# note\nadd '#}'"),
    # assignment
    ('{% if area = 1 %}\n{% endif %}\n', "5: the template has an error: '=' is an assignment, not a comparison\n| {% if area = 1 %}\nwrite '=='"),
    # quote not closed
    ("{{ 'abc }}\n", "5: the template has an error: a quote is not closed, or a character is not allowed here\n| {{ 'abc }}\nadd the closing quote"),
    # unknown filter
    ('{{ area | uper }}\n', "5: the template has an error: unknown filter 'uper'\n| {{ area | uper }}\ndid you mean 'upper'?"),
    # unknown test
    ('{% if area is ipv5 %}\n{% endif %}\n', "5: the template has an error: unknown test 'ipv5'\n| {% if area is ipv5 %}\ndid you mean 'ipv6'?"),
    # undefined top
    ('{{ areaa }}\n', "5: 'areaa' is not defined (for gull-core-1)\n| {{ areaa }}\ndid you mean 'area'?"),
    # undefined field
    ('{{ management.prt }}\n', "5: 'management.prt' is not defined (for gull-core-1)\n| {{ management.prt }}\ndid you mean 'port'?"),
    # undefined field of undefined
    ('{{ management.prt.name }}\n', "5: 'management.prt' is not defined (for gull-core-1)\n| {{ management.prt.name }}\ndid you mean 'port'?"),
    # undefined three levels
    ('{{ loopback.ipv4.mask.length }}\n', "5: 'loopback.ipv4.mask' is not defined (for gull-core-1)\n| {{ loopback.ipv4.mask.length }}\n'loopback.ipv4' is text and has no attributes"),
    # undefined three levels ok two
    ('{{ a.b.c.d }}\n', "5: 'a' is not defined (for gull-core-1)\n| {{ a.b.c.d }}\nknown here: area, communities, contact, device, domain, link_cost, links, location, …"),
    # undefined in list
    ('{{ links[9].address }}\n', "5: 'links' has 5 items; [9] is out of range (for gull-core-1)\n| {{ links[9].address }}\ncount from [0]"),
    # undefined device attr
    ('{{ device.rack.row }}\n', "5: 'device.rack' is not defined (for gull-core-1)\n| {{ device.rack.row }}\nknown here: address, name, platform, role, site, tags"),
    # filter given missing
    ('{{ prefx | network_of }}\n', "5: 'prefx' is not defined (for gull-core-1)\n| {{ prefx | network_of }}\nknown here: area, communities, contact, device, domain, link_cost, links, location, …"),
    # filter given missing field
    ('{{ management.prefix | nth_host(1) }}\n', "5: 'management.prefix' is not defined (for gull-core-1)\n| {{ management.prefix | nth_host(1) }}\nknown here: enabled, network, port"),
    # builtin filter given missing
    ('{{ prefx | upper }}\n', "5: 'prefx' is not defined (for gull-core-1)\n| {{ prefx | upper }}\nknown here: area, communities, contact, device, domain, link_cost, links, location, …"),
    # builtin join missing
    ("{{ names | join(',') }}\n", "5: 'names' is not defined (for gull-core-1)\n| {{ names | join(',') }}\nknown here: area, communities, contact, device, domain, link_cost, links, location, …"),
    # builtin int filter wrong
    ('{{ links | round }}\n', '5: cannot render the template: the filter does not accept a list (for gull-core-1)\n| {{ links | round }}\ncheck the value that it gets'),
    # filter given wrong
    ('{{ device.address | network_of }}\n', "5: cannot render the template: '192.0.2.11' is not an address or prefix with a length, such as 192.0.2.1/24 (for gull-core-1)\n| {{ device.address | network_of }}"),
    # loop over missing
    ('{% for x in quays %}\n{{ x }}\n{% endfor %}\n', "5: 'quays' is not defined (for gull-core-1)\n| {% for x in quays %}\nknown here: area, communities, contact, device, domain, link_cost, links, location, …"),
    # loop over none
    ('{% for x in loopback.ipv4.x %}\n{% endfor %}\n', "5: 'loopback.ipv4.x' is not defined (for gull-core-1)\n| {% for x in loopback.ipv4.x %}\n'loopback.ipv4' is text and has no attributes"),
    # loop over number
    ('{% for x in link_cost %}\n{% endfor %}\n', "5: cannot render the template: cannot loop over a number (for gull-core-1)\n| {% for x in link_cost %}\nuse a list"),
    # call value
    ('{{ area() }}\n', "5: cannot render the template: cannot call text (for gull-core-1)\n| {{ area() }}\nremove the '()' after it"),
    # include missing
    ("{% include 'x.j2' %}\n", "5: cannot render the template: cannot find the included template 'x.j2' (for gull-core-1)\n| {% include 'x.j2' %}\nincluded templates must be in the templates folder"),
    # plus
    ('{{ area + 1 }}\n', "5: cannot render the template: cannot add text and a number (for gull-core-1)\n| {{ area + 1 }}\nturn text into a number with '| int', or join texts with '~'"),
    # sandbox
    ("{{ ''.__class__.__mro__ }}\n", "5: cannot render the template: templates run in a sandbox: access to attribute '__class__' of 'str' object is unsafe (for gull-core-1)\n| {{ ''.__class__.__mro__ }}"),
)  # fmt: skip


class MistakesInWordsTest(EstateTest):
    def told(self) -> dict[str, str]:
        """What `oast lint` tells about each file, by the file's name."""
        found: dict[str, list[str]] = {}
        name = ""
        for line in self.oast("lint", "--on", "name=gull-core-1", expect=3).out.splitlines():
            match = re.match(r"(?:values|templates/bine)/(\w+)\.(?:yaml|j2):(\d+: .*)", line)
            if match:
                name = match[1]
                found.setdefault(name, []).append(match[2])
            elif line.startswith("    "):
                found[name].append(line[4:].removeprefix("hint: "))
        return {name: "\n".join(lines) for name, lines in found.items()}

    def test_what_is_told_about_yaml(self) -> None:
        for number, (text, _) in enumerate(YAML):
            (self.estate / f"values/case{number}.yaml").write_text(text)
        told = self.told()
        for number, (text, wanted) in enumerate(YAML):
            with self.subTest(text=text):
                self.assertEqual(told.get(f"case{number}"), wanted)
        self.assertEqual(len(told), len(YAML), "nothing is told about other files")

    def test_what_is_told_about_templates(self) -> None:
        with (self.estate / "intent.yaml").open("a") as intent:
            intent.write("".join(f"  - section: case{number}\n" for number in range(len(TEMPLATES))))
        for number, (text, _) in enumerate(TEMPLATES):
            header = f'{{#\nsection: case{number}\nowns: ["user case{number}-*"]\n#}}\n'
            (self.estate / f"templates/bine/case{number}.j2").write_text(header + text)
        told = self.told()
        for number, (text, wanted) in enumerate(TEMPLATES):
            with self.subTest(text=text):
                self.assertEqual(told.get(f"case{number}"), wanted)
        self.assertEqual(len(told), len(TEMPLATES), "nothing is told about other files")

    def test_a_header_that_is_not_closed_and_expressions_in_values(self) -> None:
        path = self.estate / "templates/bine/time.j2"
        path.write_text(path.read_text().replace("#}", ""))
        (self.estate / "values/zz.yaml").write_text("everywhere:\n  spare: '{{ management.prt }}'\n")
        run = self.oast("lint", "--on", "name=gull-core-1", expect=3)
        self.assertEqual(
            run.out,
            "templates/bine/time.j2:1: the comment at the beginning is not closed\n    hint: end the header with '#}'\nvalues/zz.yaml:2: cannot evaluate 'spare': 'management.prt' is not defined (for gull-core-1)\n    hint: did you mean 'port'?\n2 mistakes\n",
        )
