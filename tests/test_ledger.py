"""The ledger: nothing in it is altered, removed or moved unnoticed, and what two copies have written comes together without a lie."""

from __future__ import annotations

import random
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from oast.change.ledger import Ledger


class LedgerTest(unittest.TestCase):
    def setUp(self) -> None:
        super().setUp()
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))

    def copy(self, name: str) -> Ledger:
        return Ledger(self.folder / name, self.folder / name / ".oast")

    def written(self, name: str = "one", number: int = 4) -> Ledger:
        ledger = self.copy(name)
        for entry in range(number):
            plan = ledger.keep({"format": "oast.plan/1", "devices": {f"gull-core-{entry}": {}}})
            ledger.append("begun", f"c{entry}", {"reason": "Fähre nach Dunlin", "plan": plan})
        return ledger

    def test_what_was_written_is_as_it_was_written(self) -> None:
        ledger = self.written()
        self.assertEqual(ledger.audit(), [])
        self.assertEqual([entry.change for entry in ledger.entries()], ["c0", "c1", "c2", "c3"])
        self.assertEqual(self.copy("none").audit(), [])

    def test_any_byte_that_is_changed_is_found(self) -> None:
        ledger = self.written()
        dice = random.Random(7)
        files = [path for path in (self.folder / "one" / "changes").rglob("*") if path.is_file()]
        for path in files:
            whole = path.read_bytes()
            places = range(len(whole)) if path.suffix == ".jsonl" else dice.sample(range(len(whole)), 20)
            for place in places:
                data = bytearray(whole)
                data[place] ^= 1 << dice.randrange(8)
                path.write_bytes(data)
                found = ledger.audit()
                self.assertTrue(found, (path.name, place))
                self.assertTrue(any(path.name in finding.file for finding in found), (path.name, place, found))
            path.write_bytes(whole)
        self.assertEqual(ledger.audit(), [])

    def test_an_entry_that_is_removed_moved_added_or_cut_off_is_found_and_named(self) -> None:
        ledger = self.written()
        (chain,) = (self.folder / "one" / "changes").glob("ledger-*.jsonl")
        lines = chain.read_bytes().splitlines(keepends=True)
        for about, changed, line in (
            ("the first removed", lines[1:], 1),
            ("one removed", [*lines[:1], *lines[2:]], 2),
            ("the last removed", lines[:-1], 4),
            ("two moved", [lines[0], lines[2], lines[1], lines[3]], 2),
            ("one added", [*lines[:2], lines[1], *lines[2:]], 3),
            ("half a line", [*lines[:3], lines[3][:20]], 4),
            ("no end of line", [*lines[:3], lines[3][:-1]], 4),
            ("nothing left", [], 1),
        ):
            chain.write_bytes(b"".join(changed))
            self.assertIn(line, [finding.line for finding in ledger.audit()], about)
        chain.unlink()
        self.assertIn("is not there any more", ledger.audit()[0].message)

    def test_content_that_is_missing_or_nobodys_is_found(self) -> None:
        ledger = self.written()
        content = self.folder / "one" / "changes" / "content"
        next(iter(sorted(content.iterdir()))).unlink()
        (content / "notes.txt").write_text("mine")
        (self.folder / "one" / "changes" / "ledger-copy.jsonl").write_text("")
        told = " ".join(finding.message for finding in ledger.audit())
        self.assertIn("which it names, is missing", told)
        self.assertEqual(told.count("this is nothing of Oast's"), 2)

    def test_two_copies_come_together_in_git_without_a_conflict_and_without_a_lie(self) -> None:
        self.written("one", 2)
        self.git("one", "init", "-q", "-b", "main")
        self.git("one", "add", "changes")
        self.git("one", "commit", "-qm", "one")
        subprocess.run(["git", "clone", "-q", str(self.folder / "one"), str(self.folder / "two")], check=True)
        for name in ("one", "two"):
            self.copy(name).append("begun", f"from-{name}", {"reason": name})
            self.git(name, "add", "changes")
            self.git(name, "commit", "-qm", name)
        self.git("two", "pull", "-q", "--no-rebase", "--no-edit", "origin", "main")
        two = self.copy("two")
        self.assertEqual(two.audit(), [])
        self.assertEqual({entry.change for entry in two.entries()}, {"c0", "c1", "from-one", "from-two"})
        after = two.append("begun", "later", {"reason": "knows of both"})
        self.assertEqual(len(after.said["seen"]), 1, "the entry of the other copy that it has not seen before")
        # Whoever takes back what another copy has seen is found out by that copy.
        chain = next(path for path in (self.folder / "two" / "changes").glob("*.jsonl") if "from-one" in path.read_text())
        chain.write_bytes(b"".join(chain.read_bytes().splitlines(keepends=True)[:-1]))
        self.assertIn("it has seen an entry", " ".join(finding.message for finding in two.audit()))

    def test_a_copy_of_the_folder_and_another_branch_begin_chains_of_their_own(self) -> None:
        self.written("one", 2)
        shutil.copytree(self.folder / "one", self.folder / "copy")
        for name in ("one", "copy"):
            self.copy(name).append("begun", "both", {"reason": name})
            self.assertEqual(self.copy(name).audit(), [])
        chains = {path.name for name in ("one", "copy") for path in (self.folder / name / "changes").glob("*.jsonl")}
        self.assertEqual(len(chains), 2)
        (chain,) = (self.folder / "one" / "changes").glob("*.jsonl")
        chain.write_bytes(b"".join(chain.read_bytes().splitlines(keepends=True)[:1]))
        self.copy("one").append("begun", "elsewhere", {"reason": "on a branch that is older"})
        self.assertEqual(len(list((self.folder / "one" / "changes").glob("*.jsonl"))), 2)

    def test_the_last_changes_are_found_without_reading_all_and_whole(self) -> None:
        ledger = self.written("one", 0)
        for entry in range(30):
            ledger.append("proposed", f"c{entry}", {"reason": "x" * 90})
        for entry in (3, 29):
            ledger.append("withdrawn", f"c{entry}", {"reason": "no"})
        with mock.patch("oast.change.ledger.WINDOW", 2000):
            for number in (1, 2, 5, 30, 31):
                found, more = ledger.latest(number)
                names = list(dict.fromkeys(entry.change for entry in found))
                self.assertEqual(names, [f"c{n}" for n in range(30)][-number:])
                self.assertEqual((found[-1].kind, more), ("withdrawn", number < 30))

    def git(self, name: str, *arguments: str) -> None:
        who = ("-c", "user.name=Ada", "-c", "user.email=ada@larkwater.example")
        subprocess.run(["git", *who, *arguments], cwd=self.folder / name, check=True, capture_output=True)


if __name__ == "__main__":
    unittest.main()
