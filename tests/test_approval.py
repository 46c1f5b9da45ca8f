"""Changes that are proposed by one and approved by another, and are then delivered exactly as they were approved, or not at all."""

from __future__ import annotations

import json
import shutil
import subprocess
import unittest

from larkwater import SECRETS, LarkwaterTest, Run

ADA, BO = "ada@larkwater.example", "bo@larkwater.example"


class ApprovalTest(LarkwaterTest):
    delivered = True

    def as_(self, who: str, *arguments: str, expect: int | None = 0) -> Run:
        return self.oast(*arguments, expect=expect, environment={"OAST_IDENTITY": who})

    def proposed(self, *options: str) -> str:
        """A proposal of Ada's for both hubs; its name."""
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        run = self.as_(
            ADA, "push", "-m", "The day desk", "--ticket", "T-17", "--on", "role=core", "--propose", "--format", "json", *options
        )
        name: str = run.json()["change"]
        return name

    def test_what_was_approved_is_delivered_and_the_record_tells_of_it(self) -> None:
        name = self.proposed()
        self.assertIn("Larkwater network desk", self.running("gull-core-1"), "a proposal touches nothing")
        self.assertIn("state     proposed", self.as_(BO, "change", "show", name[-4:]).out)
        self.assertEqual(self.as_(BO, "change", "approve", name, "--yes").out, f"{name} is approved by {BO}\n")
        run = self.as_(ADA, "push", "--change", name, "--yes")
        self.assertIn("2 devices delivered", run.out)
        self.assertIn("Larkwater day desk", self.running("gull-core-1"))
        shown = self.oast("change", "show", name, "--format", "json").json()
        self.assertEqual([entry["kind"] for entry in shown["entries"]], ["proposed", "approved", "begun", "ended"])
        self.assertEqual((shown["reason"], shown["ticket"], shown["author"]), ("The day desk", "T-17", ADA))
        self.assertEqual(
            {d["device"]: d["state"] for d in shown["outcomes"][0]["devices"]}, dict.fromkeys(("gull-core-1", "heron-core-1"), "delivered")
        )
        labels = [label for row in self.oast("backup", "list", "--format", "json").json()["backups"] for label in row["labels"]]
        self.assertIn(f"before {name}", labels, "by the name of the change, which is not that of the run")
        run_name = next(entry["run"] for entry in shown["entries"] if entry["kind"] == "ended")
        self.assertNotEqual(run_name, name)
        for label in (f"before {name}", f"before {run_name}"):
            diff = self.oast("backup", "diff", label, "--on", "role=core", expect=1).out
            self.assertIn('+   contact "Larkwater day desk"', diff)
        self.assertIn("has been delivered already", self.as_(ADA, "push", "--change", name, "--yes", expect=1).err)

    def test_nobody_approves_what_is_theirs(self) -> None:
        name = self.proposed()
        told = self.as_(ADA, "change", "approve", name, "--yes", expect=1).err
        self.assertIn(f"{ADA} has proposed it, and cannot approve it as well", told)

    def test_an_estate_that_wants_approval_delivers_nothing_without(self) -> None:
        self.edit("oast.toml", "verify_timeout_s", "approval = true\nverify_timeout_s")
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        run = self.as_(ADA, "push", "-m", "The day desk", "--on", "role=core", "--yes")
        self.assertIn("nothing was touched", run.out)
        name = self.oast("change", "list", "--format", "json").json()["changes"][-1]["change"]
        self.assertIn(f"{name} is not approved: nobody has", self.as_(ADA, "push", "--change", name, "--yes", expect=1).err)
        self.as_(BO, "change", "approve", name, "--yes")
        self.assertIn("2 devices delivered", self.as_(BO, "push", "--change", name, "--yes").out)

    def test_when_the_device_or_somebody_moved_it_is_stale_and_says_what_moved(self) -> None:
        name = self.proposed()
        self.as_(BO, "change", "approve", name, "--yes")
        self.console("gull-core-1", "raise", SECRETS["privilege-password"], "edit", "system", "  contact by-hand", "close")
        before = self.running("gull-core-1")
        run = self.as_(ADA, "push", "--change", name, "--yes", expect=1)
        self.assertIn(f"{name} is stale: 1 device would not change as proposed; nothing was touched", run.out)
        self.assertRegex(run.out, r'no more:  - system / contact "?Larkwater network desk"?')
        self.assertRegex(run.out, r"new:  - system / contact by-hand")
        self.assertEqual(self.running("gull-core-1"), before)

    def test_what_somebody_has_not_saved_is_no_part_of_what_was_approved(self) -> None:
        name = self.proposed()
        self.as_(BO, "change", "approve", name, "--yes")
        self.console("gull-core-1", "raise", SECRETS["privilege-password"], "edit", "user visitor", "close")
        self.assertIn("is stale", self.as_(ADA, "push", "--change", name, "--yes", expect=1).out)

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
        (chain,) = (path for path in (self.estate / "changes").glob("ledger-*.jsonl") if "approved" in path.read_text())
        lines = chain.read_text().splitlines()
        approval = json.loads(lines[-1])
        chain.write_text(
            "\n".join([*lines[:-1], json.dumps({**approval, "difference": "0" * 64}, separators=(",", ":"), sort_keys=True)]) + "\n"
        )
        self.edit("oast.toml", "verify_timeout_s", "approval = true\nverify_timeout_s")
        told = self.as_(ADA, "push", "--change", name, "--yes", expect=1).err
        self.assertIn(f"{BO} has approved another difference", told)
        self.assertIn("not as it was", self.oast("change", "audit", expect=1).out)

    def test_what_was_withdrawn_is_not_delivered(self) -> None:
        name = self.proposed()
        self.as_(ADA, "change", "withdraw", name, "-m", "not today")
        for command in (("push", "--change", name, "--yes"), ("change", "approve", name, "--yes")):
            self.assertIn(f"{name} was withdrawn", self.as_(BO, *command, expect=1).err)
        self.assertEqual(self.oast("change", "list", "--format", "json").json()["changes"][-1]["state"], "withdrawn")

    def test_approvals_are_signed_where_the_estate_asks_for_it(self) -> None:
        if shutil.which("ssh-keygen") is None:
            self.fail("these tests need OpenSSH")
        for who in ("bo", "cy"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(self.folder / who)], check=True)
        public = (self.folder / "bo.pub").read_text()
        (self.estate / "approvers").write_text(f'{BO} namespaces="oast-approval" {public}')
        self.edit("oast.toml", "verify_timeout_s", 'approval = true\nallowed_signers = "approvers"\nverify_timeout_s')
        name = self.proposed()
        self.assertIn("have to be signed", self.as_(BO, "change", "approve", name, "--yes", expect=1).err)
        told = self.as_(BO, "change", "approve", name, "--yes", "--sign", str(self.folder / "cy"), expect=1).err
        self.assertIn(f"the signature of {BO} is not good", told)
        self.as_(BO, "change", "approve", name, "--yes", "--sign", str(self.folder / "bo"))
        self.assertIn("2 devices delivered", self.as_(ADA, "push", "--change", name, "--yes").out)
        # Whoever loses the right to approve has not approved.
        (self.estate / "approvers").write_text("")
        self.edit("values/network.yaml", "contact: Larkwater day desk", "contact: Larkwater network desk")

    def test_what_is_beyond_the_limits_may_be_approved(self) -> None:
        path = self.estate / "templates" / "bine" / "users.j2"
        path.write_text(path.read_text().partition("#}")[0] + "#}\n")
        name = self.as_(ADA, "push", "-m", "x", "--on", "name=gull-core-1", "--section", "users", "--propose", "--format", "json").json()[
            "change"
        ]
        self.assertIn("takes away", self.as_(ADA, "push", "--change", name, "--yes", expect=1).out)
        self.as_(BO, "change", "approve", name, "--yes")
        self.assertIn("1 device delivered", self.as_(ADA, "push", "--change", name, "--yes").out)

    def test_secrets_are_sent_again_from_the_record_and_do_not_stand_in_it(self) -> None:
        self.console("gull-core-1", "raise", SECRETS["privilege-password"], "edit", "snmp", "  remove community reads-7f31-quay", "close")
        name = self.as_(ADA, "push", "-m", "x", "--on", "name=gull-core-1", "--propose", "--format", "json").json()["change"]
        self.assertIn("1 device delivered", self.as_(ADA, "push", "--change", name, "--yes").out)
        self.assertIn("community reads-7f31-quay", self.running("gull-core-1"))
        for path in (self.estate / "changes").rglob("*.json*"):
            for secret in SECRETS.values():
                self.assertNotIn(secret, path.read_text())
        self.console("gull-core-1", "raise", SECRETS["privilege-password"], "edit", "snmp", "  remove community reads-7f31-quay", "close")
        again = self.as_(ADA, "push", "--change", name, "--again", "--yes")
        self.assertIn("1 device delivered", again.out)
        self.assertIn("community reads-7f31-quay", self.running("gull-core-1"))
        intended = self.oast("change", "show", name, "--device", "gull-core-1").out
        self.assertRegex(intended, r"community <secret [0-9a-f]{8}>")


if __name__ == "__main__":
    unittest.main()
