"""Drift: what changed on devices that nobody delivered, and the policies that fail."""

from __future__ import annotations

import datetime
import tempfile
import unittest
from pathlib import Path

from hypothesis import given, settings

from larkwater import SECRETS, LarkwaterTest
from oast.change.record.baseline import Baseline, drift_from_baseline, load_baseline, save_baseline
from oast.config.ownership import Scope, pattern_of
from oast.config.secret_fingerprints import strip_secrets
from oast.errors import StateError
from oast.estate.encrypted_file import EncryptedFile
from trees import BINE, configurations, tree_of

AT = datetime.datetime(2026, 5, 4, 3, 2, 1, tzinfo=datetime.UTC)
EVERYTHING = Scope((("*",),))


class KeptTest(unittest.TestCase):
    def setUp(self) -> None:
        self.path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "quay-1.json"

    def keep(self, text: str, scope: Scope = EVERYTHING) -> None:
        save_baseline(self.path, Baseline("run", AT, strip_secrets(tree_of(text))), scope, BINE.grammar)

    def drift(self, text: str) -> list[str]:
        kept = load_baseline(self.path, BINE.grammar)
        assert kept is not None
        edits = drift_from_baseline("quay-1", kept, tree_of(text)).edits
        return [f"{edit.operation} {' / '.join(edit.path)}" for edit in edits]

    @settings(max_examples=60, deadline=None)
    @given(configurations())
    def test_what_was_kept_is_read_back_and_nothing_has_drifted(self, text: str) -> None:
        self.path.unlink(missing_ok=True)
        self.keep(text)
        kept = load_baseline(self.path, BINE.grammar)
        assert kept is not None
        self.assertEqual((kept.run, kept.at), ("run", AT))
        self.assertEqual(self.drift(text), [])

    def test_a_delivery_of_one_part_leaves_what_was_kept_of_the_others(self) -> None:
        self.keep("ntp\n  server 192.0.2.1\nsystem\n  contact day\n  hostname a\n")
        self.keep(
            "ntp\n  server 192.0.2.2\nsystem\n  contact night\n  hostname b\n",
            Scope.of([pattern_of("ntp"), pattern_of("system/contact")]),
        )
        self.assertEqual(
            self.drift("ntp\n  server 192.0.2.2\nsystem\n  contact night\n  hostname b\n"),
            ["replace system / hostname"],
        )

    def test_a_secret_is_kept_as_a_fingerprint_and_a_changed_one_shows(self) -> None:
        self.keep("snmp\n  community red\n    access read-write\n")
        self.assertNotIn('"community red', self.path.read_text())
        self.assertEqual(self.path.stat().st_mode & 0o077, 0)
        self.assertEqual(
            {line.split(" ")[0] for line in self.drift("snmp\n  community blue\n")}, {"remove", "create"}
        )

    def test_a_damaged_file_is_told(self) -> None:
        self.path.write_text('{"format": "oast.delivered/1", "statements": 5}')
        with self.assertRaises(StateError):
            load_baseline(self.path, BINE.grammar)
        self.keep("ntp\n  server 192.0.2.1\n")
        self.assertEqual(self.drift("ntp\n  server 192.0.2.1\n"), [])


class DriftTest(LarkwaterTest):
    delivered = True

    def by_hand(self, device: str, *lines: str) -> None:
        self.console(device, "raise", SECRETS["privilege-password"], "edit", *lines, "close")

    def test_what_was_done_by_hand_is_shown_and_what_waits_to_be_delivered_is_not(self) -> None:
        self.assertEqual(self.oast("drift").out, "no drift: 6 devices unchanged\n")
        self.edit("values/network.yaml", "Larkwater network desk", "Larkwater day desk")
        waits = self.oast("drift").out
        self.assertRegex(
            waits,
            r"^not delivered yet: gull-core-1, .* and 2 more \(see oast diff\)\n\nno drift: 6 ",
        )
        self.assertEqual(len(self.oast("drift", "--format", "json").json()["undelivered"]), 6)
        for device in ("gull-core-1", "tern-edge-1"):
            self.by_hand(device, "snmp", "  community by-hand-5512")
        self.by_hand("tern-edge-1", "remove interface loop1")
        run = self.oast("drift", expect=1)
        self.assertRegex(
            run.out,
            r"gull-core-1, tern-edge-1  \(the same on 2\)  \+1 -0\n    snmp\n  \+   community <secret [0-9a-f]{8}>\n",
        )
        self.assertIn("tern-edge-1  +0 -4\n  - interface loop1\n", run.out)
        self.assertIn("2 devices drifted, 4 unchanged", run.out)
        self.assertNotIn("by-hand-5512", run.out + run.err)
        self.assertIn("1 device drifted", self.oast("drift", "--section", "interfaces", expect=1).out)
        self.assertIn("no drift", self.oast("drift", "--on", "role=edge and not site=tern").out)
        document = self.oast("drift", "--format", "json", "--on", "site=gull", expect=1).json()
        self.assertEqual((document["format"], document["devices"][0]["added"]), ("oast.drift/1", 1))
        self.assertRegex(document["devices"][0]["since"]["run"], r"^20\d{6}T\d{6}Z-")

    def test_a_delivery_of_one_section_does_not_hide_what_was_done_to_another(self) -> None:
        self.by_hand("gull-core-1", "snmp", "  target 192.0.2.99")
        self.edit("values/network.yaml", "Larkwater network desk", "Larkwater day desk")
        self.oast("push", "-m", "desk", "--section", "system", "--yes")
        self.assertIn("+   target 192.0.2.99", self.oast("drift", expect=1).out)
        self.oast("push", "-m", "all of it", "--yes")
        self.oast("drift")

    def test_policies_and_the_age_of_secrets_are_reported(self) -> None:
        (self.estate / "policies/more.yaml").write_text(
            "policies:\n"
            "  - {policy: no-traps, must_not_contain: snmp/target 192.0.2.61}\n"
            "  - {policy: fresh, secret_age: 10, severity: warning}\n"
        )
        file = EncryptedFile(self.estate / "secrets.jwe", self.folder / "larkwater.key", {})
        file.put("snmp-read", SECRETS["snmp-read"], datetime.date.today() - datetime.timedelta(days=100))
        run = self.oast("drift", expect=1)
        self.assertIn(
            "policy 'no-traps': 'target 192.0.2.61' is not allowed (for gull-core-1, heron-core-1)", run.out
        )
        self.assertIn("policy 'fresh': the secret 'snmp-read' is 100 days old", run.out)
        self.assertIn("no drift: 6 devices unchanged; 1 policy violation", run.out)
        document = self.oast("drift", "--format", "json", expect=1).json()
        self.assertEqual([p["kind"] for p in document["policies"]], ["policy", "policy-warning"])
        self.edit("policies/more.yaml", "192.0.2.61}", "192.0.2.61, severity: warning}")
        self.assertIn("policy 'no-traps'", self.oast("drift").out)
        self.fault("tern-edge-1", "down")
        run = self.oast("drift", "--on", "role=edge", expect=4)
        self.assertIn("no drift: 3 devices unchanged", run.out)
        self.assertIn("tern-edge-1: cannot connect", run.err)

    def test_what_is_not_as_it_was_kept_last_is_named_besides(self) -> None:
        self.assertEqual(self.oast("drift").out, "no drift: 6 devices unchanged\n")
        self.by_hand(
            "gull-core-1", "snmp", "  target 192.0.2.99", "  community by-hand-5512", "system", "  contact me"
        )
        run = self.oast("drift", expect=1)
        self.assertNotIn("not delivered yet", run.out)
        self.assertIn(
            "changed since the last backup: gull-core-1 (oast backup saves the current configurations)",
            run.out,
        )
        kept = self.oast("drift", "--format", "json", expect=1).json()["since_backup"]
        self.assertEqual([(one["device"], len(one["edits"])) for one in kept], [("gull-core-1", 3)])
        for secrets in ("kept", "masked"):
            with self.subTest(secrets):
                with (self.estate / "oast.toml").open("a") as file:
                    file.write(f'[archive]\nsecrets = "{secrets}"\n' if secrets == "masked" else "")
                self.oast("backup")
                run = self.oast("drift", expect=1)
                self.assertNotIn("not as in the last backup", run.out)
                self.assertIn("1 device drifted, 5 unchanged", run.out)

    def test_a_device_that_is_another_or_runs_another_release_than_the_inventory_says_is_told(self) -> None:
        asked = self.oast("ask", "system", "--on", "name=gull-core-1", "--format", "json").json()
        record = next(record for record in asked["records"] if record["device"] == "gull-core-1")
        right = f"    version: '{record['os-release']}'\n    serial: {record['serial-num']}\n"
        self.edit("inventory/devices.yaml", "  gull-core-1:\n", f"  gull-core-1:\n{right}")
        self.assertEqual(self.oast("drift").out, "no drift: 6 devices unchanged\n")
        self.edit("inventory/devices.yaml", right, "    version: 0.9\n    serial: XX-1\n")
        run = self.oast("drift", expect=1)
        line = self.line_of("inventory/devices.yaml", "version: 0.9")
        self.assertIn(
            f"inventory/devices.yaml:{line}: gull-core-1: expected version 0.9; the device says {record['os-release']}",
            run.out,
        )
        self.assertIn(
            f"inventory/devices.yaml:{line + 1}: gull-core-1: expected serial XX-1; the device says {record['serial-num']}",
            run.out,
        )
        self.assertIn("no drift: 6 devices unchanged; 1 device different from the inventory", run.out)
        found = self.oast("drift", "--format", "json", expect=1).json()["unlike"]
        self.assertEqual(
            [(one["attribute"], one["meant"]) for one in found], [("version", "0.9"), ("serial", "XX-1")]
        )

    def test_another_host_key_is_named_as_that(self) -> None:
        self.fault("tern-edge-1", "key")
        run = self.oast("drift", "--format", "json", expect=4)
        self.assertEqual(run.json()["host_keys"], ["tern-edge-1"])


class NeverDeliveredTest(LarkwaterTest):
    def test_what_was_never_delivered_is_compared_with_its_intent(self) -> None:
        self.oast("push", "-m", "one", "--on", "site=dunlin", "--yes")
        run = self.oast("drift", expect=1)
        self.assertIn(
            "5 devices: never delivered to, so compared with the intent instead of a baseline:", run.out
        )
        self.assertIn('  +   contact "night desk, pier 2"\n', run.out)
        self.assertIn("5 devices drifted, 1 unchanged", run.out)
