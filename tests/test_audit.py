"""oast change audit, through the program: who has signed what, breaks and how they are accepted, and the heads in the archive."""

from __future__ import annotations

import shutil
import subprocess
import unittest
from pathlib import Path

from larkwater import LarkwaterTest

ADA, BO = "ada@larkwater.example", "bo@larkwater.example"


class AuditTest(LarkwaterTest):
    """Three deliveries to one device, and what is done to their ledger."""

    delivered = True

    def setUp(self) -> None:
        super().setUp()
        for chain in self.chains():
            chain.unlink()
        (self.estate / ".oast" / "ledger.json").unlink()
        shutil.rmtree(self.estate / ".oast" / "archive")

    def chains(self) -> list[Path]:
        return sorted((self.estate / "changes").glob("ledger-*.jsonl"))

    def push(self, desk: str, expect: int = 0, who: str = ADA) -> str:
        push = (
            "push",
            "-m",
            "desk",
            "--on",
            "name=gull-core-1",
            "--section",
            "system",
            "--with",
            f"contact={desk}",
            "--yes",
        )
        run = self.oast(*push, environment={"OAST_IDENTITY": who}, expect=expect)
        return run.out + run.err

    def audit(self, *options: str, expect: int = 1) -> str:
        return " ".join(
            self.oast(
                "change", "audit", *options, environment={"OAST_IDENTITY": BO}, expect=expect
            ).out.split()
        )

    def test_a_ledger_that_was_cut_off_is_never_unaltered_again(self) -> None:
        for desk in ("day", "night", "early"):
            self.push(desk)
        self.assertIn("the ledger is intact", self.audit(expect=0))
        (chain,) = self.chains()
        lines = chain.read_bytes().splitlines(keepends=True)
        chain.write_bytes(b"".join(lines[:-2]))
        before = self.running("gull-core-1")
        self.assertIn("1 finding", self.audit(), "one cause is told once")
        told = self.push("late", expect=4)
        self.assertIn(
            f"the ledger was cut or altered: changes/{chain.name}:5: entry 6, which this copy knows",
            told,
        )
        self.assertIn("oast change audit --accept-break REASON", told)
        self.assertEqual(self.running("gull-core-1"), before)
        self.assertIn("entry 6, which this copy knows, is missing or was altered", self.audit())
        self.assertIn(
            "accepting a break needs a reason",
            self.oast("change", "audit", "--accept-break", " ", expect=2).err,
        )
        self.assertIn(
            "every later audit reports it", self.audit("--accept-break", "the laptop was restored", expect=0)
        )
        self.push("late")
        told = self.audit()
        self.assertIn(f"accepted by {BO} (the laptop was restored): changes/{chain.name}:5: entry 6", told)
        # The archive has its own record of the heads; without the memory of this copy, it still shows what is gone.
        (self.estate / ".oast" / "ledger.json").unlink()
        self.assertIn("entry 6, which a tag of the archive names, is missing or was altered", self.audit())
        self.assertIn("nothing to accept", self.audit("--accept-break", "again", expect=0))
        self.assertNotIn("ledger-head", self.oast("backup", "list").out)

    def test_the_archives_remote_tells_a_fresh_clone_what_is_missing(self) -> None:
        remote = self.folder / "remote.git"
        subprocess.run(["git", "init", "-q", "--bare", str(remote)], check=True)
        with (self.estate / "oast.toml").open("a") as settings:
            settings.write(f'\n[archive]\nremote = "{remote}"\n')
        self.push("day")
        self.assertIn("the ledger is intact", self.audit("--remote", expect=0))
        archived = subprocess.run(
            ["git", "log", "-1", "--format=%b", "main"],
            cwd=remote,
            capture_output=True,
            text=True,
            check=True,
        ).stdout
        self.assertRegex(archived, r"Ledger-Head: [0-9a-f]{12} 1 [0-9a-f]{64}")
        (chain,) = self.chains()
        chain.write_bytes(chain.read_bytes().splitlines(keepends=True)[0])
        (self.estate / ".oast" / "ledger.json").unlink()
        (self.estate / ".oast" / "archive").rename(self.folder / "gone")
        self.audit()
        self.assertIn(
            "entry 2, which a tag of the archive's remote names, is missing or was altered",
            self.audit("--remote"),
        )

    def test_entries_are_signed_and_the_audit_says_by_whom(self) -> None:
        for who in ("ada", "cy"):
            subprocess.run(
                ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(self.folder / who)], check=True
            )
        self.push("day")
        self.edit(
            "oast.toml",
            "verify_timeout_s",
            f'sign_with = "{self.folder}/ada"\nallowed_signers = "signers"\nverify_timeout_s',
        )
        (self.estate / "signers").write_text(
            f'{ADA} namespaces="oast-ledger" {(self.folder / "ada.pub").read_text()}'
        )
        self.push("night")
        (chain,) = self.chains()
        told = self.audit(expect=0)
        self.assertIn(f"changes/{chain.name}: entries 3 to 4 signed by {ADA}", told)
        self.assertIn(
            "2 entries are not signed; a fresh clone cannot detect that all of them were rewritten", told
        )
        # By a key that is not allowed for her; and a name that does not belong to the signature.
        self.edit("oast.toml", f"{self.folder}/ada", f"{self.folder}/cy")
        self.push("early")
        self.assertIn(f"changes/{chain.name}:5: the signature of {ADA} is invalid", self.audit())
        document = self.oast("change", "audit", "--format", "json", expect=1).json()
        self.assertEqual(
            [(s["first"], s["last"], s["signer"]) for s in document["signed"]],
            [(1, 2, None), (3, 4, ADA), (5, 6, None)],
        )
        # Where the key is not at hand nothing is begun.
        self.edit("oast.toml", f"{self.folder}/cy", f"{self.folder}/nobody")
        before = self.running("gull-core-1")
        self.assertIn("cannot sign it", self.push("late", expect=4))
        self.assertEqual(self.running("gull-core-1"), before)


if __name__ == "__main__":
    unittest.main()
