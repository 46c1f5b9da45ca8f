"""Secrets in lines that no grammar describes: typed by hand on a device, they get into nothing that is shown or kept."""

from __future__ import annotations

import tempfile
import unittest
from collections.abc import Iterator
from pathlib import Path

from larkwater import LarkwaterTest
from oast.config.documents import edits_document, tree_document, tree_from_document
from oast.config.edits import difference
from oast.config.secret_fingerprints import (
    restore_secrets,
    secrets_by_fingerprint,
    strip_secrets,
    withhold_edits,
    withhold_tree,
)
from oast.config.syntaxes import syntax_of
from oast.config.tree import Node, canonical, root_of
from oast.platforms.grammar import Grammar
from oast.platforms.load import Platforms
from oast.platforms.secret_words import SECRET_WORDS, SecretWords
from oast.records import Fingerprints
from test_left_alone import know_less
from test_structure import plain_platform

PRINTS = Fingerprints(b"k" * 32)
HIDDEN = "By-hand-77"


class SecretWordsTest(unittest.TestCase):
    def test_what_stands_after_a_word_that_suggests_a_secret_is_masked_to_the_end_of_the_line(self) -> None:
        words = SecretWords(SECRET_WORDS, PRINTS)
        for line in (
            f"password {HIDDEN}",
            f"user guest Password 7 {HIDDEN} level 3",
            f"snmp-community {HIDDEN}",
            f"authkey={HIDDEN}",
            f"pre-shared-keys: {HIDDEN}",
            f'tacacs secret "{HIDDEN} and more"',
            f"/system/peer[name=a]/shared-secret = {HIDDEN}",
            f'peer <peer xmlns="urn:x"><auth-key>{HIDDEN}</auth-key><name>a</name></peer>',
            f"login guest $6$salt${HIDDEN}",
            f"login guest {{SSHA}}{HIDDEN} level 3",
            f"key-string\t{HIDDEN}",
            f"md5 {HIDDEN}",
        ):
            with self.subTest(line=line):
                masked = words.mask(line)
                self.assertNotIn(HIDDEN, masked)
                self.assertRegex(masked, "<secret [0-9a-f]{8}>")
                self.assertEqual(words.mask(masked), masked)
                self.assertNotEqual(words.mask(line.replace("77", "78")), masked)

    def test_other_lines_stay_as_they_are(self) -> None:
        words = SecretWords(SECRET_WORDS, PRINTS)
        for line in ("", "password", "location Keyworth quay", "server 192.0.2.1", "tokenize all", "no key"):
            self.assertEqual(words.mask(line), line)


class TreeTest(unittest.TestCase):
    """Trees with such lines, on each kind of platform."""

    def trees(self, *lines: str) -> Iterator[tuple[str, Grammar, Node]]:
        bare = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))
        (bare / "platforms").mkdir()
        (bare / "platforms" / "plain.toml").write_text(plain_platform())
        for name in ("bine", "cowl", "plain"):
            platform = Platforms(bare, PRINTS).get(name)
            syntax = syntax_of(platform)
            yield name, platform.grammar, canonical(syntax.parse("".join(f"{line}\n" for line in lines)).tree)

    def test_what_is_kept_holds_none_of_them_and_gives_the_tree_back_where_they_are_at_hand(self) -> None:
        lines = (f"/zz-peer/key = {HIDDEN}", f"/zz-peer/key = {HIDDEN}2", "/zz-plain = 7")
        for name, grammar, tree in self.trees(*lines):
            with self.subTest(platform=name):
                document = tree_document(withhold_tree(tree))
                self.assertNotIn(HIDDEN, str(document))
                read = canonical(root_of(grammar, tree_from_document(document, grammar)))
                self.assertEqual(restore_secrets(read, secrets_by_fingerprint([tree])), tree)
                self.assertNotIn(HIDDEN, str(tree_document(strip_secrets(tree))))
                self.assertEqual(strip_secrets(strip_secrets(tree)), strip_secrets(tree))
                self.assertEqual(restore_secrets(strip_secrets(tree), secrets_by_fingerprint([tree])), tree)
                edits = difference(tree, root_of(grammar))
                self.assertNotIn(HIDDEN, str(edits_document(edits)))
                shown = str(edits_document(withhold_edits(edits)))
                self.assertNotIn(HIDDEN, shown)
                self.assertEqual("zz-plain" in shown, name == "plain")


class ByHandTest(LarkwaterTest):
    delivered = True

    def test_a_password_that_was_typed_by_hand_gets_into_nothing(self) -> None:
        know_less(self, "snmp/community")
        template = self.estate / "templates" / "brine" / "monitoring.j2"
        template.write_text(
            "{#\nsection: monitoring\nowns: [snmp]\nvariables:\n  trap_receivers: {of: ip-address}\n#}\n"
            "snmp\n{% for receiver in trap_receivers %}\n  target {{ receiver }}\n{% endfor %}\n"
        )
        (self.estate / "policies" / "standard.yaml").unlink()
        self.console(
            "gull-core-1", "raise", "Is0lde-privilege", "edit", "snmp", f"  community {HIDDEN}", "close"
        )
        self.assertIn(HIDDEN, self.running("gull-core-1"))
        self.edit("values/network.yaml", "Larkwater network desk", "Larkwater day desk")
        on = ("--on", "name=gull-core-1")
        shown = [self.oast("diff", "-v", *on, expect=1), self.oast("diff", "--format", "json", *on, expect=1)]
        shown += [self.oast("drift", *on, expect=1), self.oast("drift", "--format", "json", *on, expect=1)]
        shown += [
            self.oast("push", "-m", "x", *on, "--yes"),
            self.oast("change", "show", "last", "--format", "json"),
        ]
        shown += [self.oast("push", "-m", "all of it", *on, "--remove-unknown", "--yes", "-v")]
        self.assertRegex(shown[0].out, "snmp / community <secret [0-9a-f]{8}>")
        for run in shown:
            self.assertNotIn(HIDDEN, run.out + run.err)
        self.assertNotIn(HIDDEN, self.running("gull-core-1"))
        for folder in ("changes", ".oast/delivered", ".oast/log"):
            for path in (self.estate / folder).rglob("*"):
                if path.is_file():
                    self.assertNotIn(HIDDEN.encode(), path.read_bytes(), path)
        self.assertNotIn(HIDDEN.encode(), (self.estate / ".oast" / "journal.sqlite").read_bytes())
        # What was removed comes back from the archive, where it stands as the device had it.
        self.oast("change", "revert", "last", "--yes")
        self.assertIn(HIDDEN, self.running("gull-core-1"))


if __name__ == "__main__":
    unittest.main()
