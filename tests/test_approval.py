"""Changes that are proposed by one and approved by another, and are then delivered exactly as they were approved, or not at all."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import unittest
from pathlib import Path

from larkwater import SECRETS, LarkwaterTest, Run
from oast.change.record.approval import Signers, public_key, require_valid_approval
from oast.errors import ApprovalError, StateError

ADA, BO = "ada@larkwater.example", "bo@larkwater.example"


class ApprovalTest(LarkwaterTest):
    delivered = True

    def as_(self, who: str, *arguments: str, expect: int | None = 0) -> Run:
        return self.oast(*arguments, expect=expect, environment={"OAST_IDENTITY": who})

    def proposed(self, *options: str) -> str:
        """A proposal of Ada's for both hubs; its name."""
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        run = self.as_(
            ADA,
            "push",
            "-m",
            "The day desk",
            "--ticket",
            "T-17",
            "--on",
            "role=core",
            "--propose",
            "--format",
            "json",
            *options,
        )
        name: str = run.json()["change"]
        return name

    def test_what_was_approved_is_delivered_and_the_record_tells_of_it(self) -> None:
        name = self.proposed()
        self.assertIn("Larkwater network desk", self.running("gull-core-1"), "a proposal touches nothing")
        self.assertIn("state     proposed", self.as_(BO, "change", "show", name[-4:]).out)
        self.assertEqual(
            self.as_(BO, "change", "approve", name, "--yes").out, f"{name} is approved by {BO}\n"
        )
        run = self.as_(ADA, "push", "--change", name, "--yes")
        self.assertIn("2 devices delivered", run.out)
        self.assertIn("Larkwater day desk", self.running("gull-core-1"))
        shown = self.oast("change", "show", name, "--format", "json").json()
        self.assertEqual(
            [entry["kind"] for entry in shown["entries"]], ["proposed", "approved", "begun", "ended"]
        )
        self.assertEqual((shown["reason"], shown["ticket"], shown["author"]), ("The day desk", "T-17", ADA))
        self.assertEqual(
            {d["device"]: d["state"] for d in shown["outcomes"][0]["devices"]},
            dict.fromkeys(("gull-core-1", "heron-core-1"), "delivered"),
        )
        labels = [
            label
            for row in self.oast("backup", "list", "--format", "json").json()["backups"]
            for label in row["labels"]
        ]
        self.assertIn(f"before {name}", labels, "by the name of the change, which is not that of the run")
        run_name = next(entry["run"] for entry in shown["entries"] if entry["kind"] == "ended")
        self.assertNotEqual(run_name, name)
        for label in (f"before {name}", f"before {run_name}"):
            diff = self.oast("backup", "diff", label, "--on", "role=core", expect=1).out
            self.assertIn('+   contact "Larkwater day desk"', diff)
        self.assertIn("was already delivered", self.as_(ADA, "push", "--change", name, "--yes", expect=1).err)

    def test_nobody_approves_what_is_theirs(self) -> None:
        name = self.proposed()
        told = self.as_(ADA, "change", "approve", name, "--yes", expect=1).err
        self.assertIn(f"{ADA} proposed this change and cannot approve it", told)

    def test_an_estate_that_wants_approval_delivers_nothing_without(self) -> None:
        self.edit("oast.toml", "verify_timeout_s", "approval = true\nverify_timeout_s")
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        run = self.as_(ADA, "push", "-m", "The day desk", "--on", "role=core", "--yes")
        self.assertIn("nothing was sent", run.out)
        name = self.oast("change", "list", "--format", "json").json()["changes"][-1]["change"]
        self.assertIn(
            f"{name} is not approved",
            self.as_(ADA, "push", "--change", name, "--yes", expect=1).err,
        )
        self.as_(BO, "change", "approve", name, "--yes")
        self.assertIn("2 devices delivered", self.as_(BO, "push", "--change", name, "--yes").out)

    def test_when_the_device_or_somebody_moved_it_is_stale_and_says_what_moved(self) -> None:
        name = self.proposed()
        self.as_(BO, "change", "approve", name, "--yes")
        self.console(
            "gull-core-1",
            "raise",
            SECRETS["privilege-password"],
            "edit",
            "system",
            "  contact by-hand",
            "close",
        )
        before = self.running("gull-core-1")
        run = self.as_(ADA, "push", "--change", name, "--yes", expect=1)
        self.assertIn(
            f"{name} is outdated: 1 device would change differently than proposed; nothing was sent", run.out
        )
        self.assertRegex(run.out, r'no more:  - system / contact "?Larkwater network desk"?')
        self.assertRegex(run.out, r"new:  - system / contact by-hand")
        self.assertEqual(self.running("gull-core-1"), before)

    def test_what_somebody_has_not_saved_is_no_part_of_what_was_approved(self) -> None:
        name = self.proposed()
        self.as_(BO, "change", "approve", name, "--yes")
        self.console("gull-core-1", "raise", SECRETS["privilege-password"], "edit", "user visitor", "close")
        self.assertIn("is outdated", self.as_(ADA, "push", "--change", name, "--yes", expect=1).out)

    def test_what_the_estate_says_by_now_changes_nothing_about_what_was_approved(self) -> None:
        name = self.proposed()
        self.as_(BO, "change", "approve", name, "--yes")
        self.edit("values/network.yaml", "contact: Larkwater day desk", "contact: Larkwater third desk")
        self.assertIn("2 devices delivered", self.as_(ADA, "push", "--change", name, "--yes").out)
        self.assertIn("Larkwater day desk", self.running("gull-core-1"))

    def test_an_approval_counts_for_the_difference_it_was_given_for_only(self) -> None:
        name = self.proposed()
        self.as_(BO, "change", "approve", name, "--yes")
        # Whoever alters the ledger would have to alter the whole chain, and every copy of it.
        (chain,) = (
            path
            for path in (self.estate / "changes").glob("ledger-*.jsonl")
            if "approved" in path.read_text()
        )
        lines = chain.read_text().splitlines()
        approval = json.loads(lines[-1])
        chain.write_text(
            "\n".join(
                [
                    *lines[:-1],
                    json.dumps({**approval, "difference": "0" * 64}, separators=(",", ":"), sort_keys=True),
                ]
            )
            + "\n"
        )
        self.edit("oast.toml", "verify_timeout_s", "approval = true\nverify_timeout_s")
        told = self.as_(ADA, "push", "--change", name, "--yes", expect=1).err
        self.assertIn(f"{BO} approved a different diff", told)
        self.assertIn("is missing or was altered", self.oast("change", "audit", expect=1).out)

    def test_what_was_withdrawn_is_not_delivered(self) -> None:
        name = self.proposed()
        self.as_(ADA, "change", "withdraw", name, "-m", "not today")
        for command in (("push", "--change", name, "--yes"), ("change", "approve", name, "--yes")):
            self.assertIn(f"{name} was withdrawn", self.as_(BO, *command, expect=1).err)
        self.assertEqual(
            self.oast("change", "list", "--format", "json").json()["changes"][-1]["state"], "withdrawn"
        )

    def test_approvals_are_signed_where_the_estate_asks_for_it(self) -> None:
        if shutil.which("ssh-keygen") is None:
            self.fail("these tests need OpenSSH")
        for who in ("ada", "bo", "cy"):
            subprocess.run(
                ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(self.folder / who)], check=True
            )
        ada, bo, cy = (str(self.folder / who) for who in ("ada", "bo", "cy"))
        before = self.proposed()
        lines = [
            f'{who} namespaces="oast-approval" {Path(f"{key}.pub").read_text()}'
            for who, key in ((ADA, ada), (BO, bo))
        ]
        (self.estate / "approvers").write_text("".join(lines))
        self.edit(
            "oast.toml",
            "verify_timeout_s",
            'approval = true\nallowed_signers = "approvers"\nverify_timeout_s',
        )
        again = ("push", "-m", "The day desk", "--on", "role=core", "--propose")
        self.assertIn("proposals of this estate must be signed", self.as_(ADA, *again, expect=1).err)
        self.assertIn(f"the signature of {ADA} is invalid", self.as_(ADA, *again, "--sign", cy, expect=4).err)
        name = self.as_(ADA, *again, "--sign", ada, "--format", "json").json()["change"]
        self.assertIn(
            "approvals of this estate must be signed",
            self.as_(BO, "change", "approve", name, "--yes", expect=1).err,
        )
        told = self.as_(BO, "change", "approve", name, "--yes", "--sign", cy, expect=1).err
        self.assertIn(f"the signature of {BO} is invalid", told)
        self.as_(BO, "change", "approve", name, "--yes", "--sign", bo)
        self.assertIn("2 devices delivered", self.as_(ADA, "push", "--change", name, "--yes").out)
        # What was proposed before signatures were asked for is proved by nobody.
        told = self.as_(BO, "change", "approve", before, "--yes", "--sign", bo, expect=1).err
        self.assertIn(f"the proposal's signature is not valid: it is not signed by {ADA}", told)

    def test_one_key_does_not_propose_under_one_name_and_approve_under_another(self) -> None:
        key = str(self.folder / "both")
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key], check=True)
        public = Path(f"{key}.pub").read_text()
        made_up = "made-up@larkwater.example"
        (self.estate / "approvers").write_text(f"{made_up},{BO} {public}")
        self.edit(
            "oast.toml",
            "verify_timeout_s",
            'approval = true\nallowed_signers = "approvers"\nverify_timeout_s',
        )
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        push = ("push", "-m", "x", "--on", "role=core", "--propose", "--sign", key, "--format", "json")
        name = self.as_(made_up, *push).json()["change"]
        told = self.as_(BO, "change", "approve", name, "--yes", "--sign", key, expect=1).err
        self.assertIn(f"{BO} signed with the key of {made_up}, who proposed the change", told)
        # Nor does the proposal itself, taken for an approval.
        (chain,) = (
            path
            for path in (self.estate / "changes").glob("ledger-*.jsonl")
            if "proposed" in path.read_text()
        )
        signed = json.loads(chain.read_text().splitlines()[-1])["signature"]
        signers = Signers(self.estate / "approvers", dict(os.environ))
        proposal = {"author": made_up, "difference": "d", "signature": signed}
        approval = {"author": BO, "difference": "d", "signature": signed}
        with self.assertRaisesRegex(ApprovalError, "the proposal's signature is not valid"):
            require_valid_approval(name, proposal, approval, signers)

    def test_a_signature_that_is_none_proves_nothing(self) -> None:
        for text in (
            "",
            "x",
            "-----BEGIN SSH SIGNATURE-----\nAAAA\n-----END SSH SIGNATURE-----",
            "-----BEGIN SSH SIGNATURE-----\n!\n",
        ):
            with self.assertRaises(StateError):
                public_key(text)
        signers = Signers(self.estate / "nobody", dict(os.environ))
        with self.assertRaisesRegex(StateError, "the file of allowed signers .* does not exist"):
            signers.verify(b"x", "y", BO)

    def test_other_programs_do_not_see_the_secrets(self) -> None:
        tools = self.folder / "tools"
        tools.mkdir()
        for name in ("git", "ssh-keygen"):
            real = shutil.which(name)
            script = f'#!/bin/sh\nenv >> "{self.folder}/{name}.env"\nexec {real} "$@"\n'
            (tools / name).write_text(script)
            (tools / name).chmod(0o755)
        subprocess.run(
            ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(self.folder / "ada")], check=True
        )
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        hidden = {
            "OAST_SECRET_MADE_UP": "tide-and-time",
            "OAST_FINGERPRINT_KEY": "0f" * 40,
            "OAST_IDENTITY": ADA,
        }
        environment = {**hidden, "PATH": f"{tools}:{os.environ['PATH']}"}
        self.oast("backup", environment=environment)
        sign = ("--propose", "--sign", str(self.folder / "ada"))
        self.oast("push", "-m", "x", "--on", "role=core", *sign, environment=environment)
        for name in ("git", "ssh-keygen"):
            seen = (self.folder / f"{name}.env").read_text()
            self.assertIn("PATH=", seen)
            for hidden_part in ("tide-and-time", "0f0f0f", "OAST_SECRET", "OAST_FINGERPRINT_KEY"):
                self.assertNotIn(hidden_part, seen)

    def test_what_is_beyond_the_limits_may_be_approved(self) -> None:
        path = self.estate / "templates" / "bine" / "users.j2"
        path.write_text(path.read_text().partition("#}")[0] + "#}\n")
        name = self.as_(
            ADA,
            "push",
            "-m",
            "x",
            "--on",
            "name=gull-core-1",
            "--section",
            "users",
            "--propose",
            "--format",
            "json",
        ).json()["change"]
        self.assertIn(
            "removal limit exceeded", self.as_(ADA, "push", "--change", name, "--yes", expect=1).out
        )
        self.as_(BO, "change", "approve", name, "--yes")
        self.assertIn("1 device delivered", self.as_(ADA, "push", "--change", name, "--yes").out)

    def test_secrets_are_sent_again_from_the_record_and_do_not_stand_in_it(self) -> None:
        self.console(
            "gull-core-1",
            "raise",
            SECRETS["privilege-password"],
            "edit",
            "snmp",
            "  remove community reads-7f31-quay",
            "close",
        )
        name = self.as_(
            ADA, "push", "-m", "x", "--on", "name=gull-core-1", "--propose", "--format", "json"
        ).json()["change"]
        self.assertIn("1 device delivered", self.as_(ADA, "push", "--change", name, "--yes").out)
        self.assertIn("community reads-7f31-quay", self.running("gull-core-1"))
        for path in (self.estate / "changes").rglob("*.json*"):
            for secret in SECRETS.values():
                self.assertNotIn(secret, path.read_text())
        self.console(
            "gull-core-1",
            "raise",
            SECRETS["privilege-password"],
            "edit",
            "snmp",
            "  remove community reads-7f31-quay",
            "close",
        )
        again = self.as_(ADA, "push", "--change", name, "--repeat", "--yes")
        self.assertIn("1 device delivered", again.out)
        self.assertIn("community reads-7f31-quay", self.running("gull-core-1"))
        intended = self.oast("change", "show", name, "--device", "gull-core-1").out
        self.assertRegex(intended, r"community <secret [0-9a-f]{8}>")


if __name__ == "__main__":
    unittest.main()
