"""The ledger: nothing in it is altered, removed or moved unnoticed, and what two copies have written comes together without a lie."""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from oast.change.record.ledger import Ledger, LedgerBroken
from oast.change.record.ledger_entry import Anchor, canonical_json, digest
from oast.errors import StateError
from oast.files import write_whole


class LedgerTest(unittest.TestCase):
    def setUp(self) -> None:
        super().setUp()
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))

    def copy(self, name: str) -> Ledger:
        return Ledger(self.folder / name, self.folder / name / ".oast", dict(os.environ))

    def written(self, name: str = "one", number: int = 4) -> Ledger:
        ledger = self.copy(name)
        for entry in range(number):
            plan = ledger.keep({"format": "oast.plan/1", "devices": {f"gull-core-{entry}": {}}})
            ledger.append("begun", f"c{entry}", {"reason": "Fähre nach Dunlin", "plan": plan})
        return ledger

    def test_what_was_written_is_as_it_was_written(self) -> None:
        ledger = self.written()
        self.assertEqual(ledger.audit().findings, [])
        self.assertEqual([entry.change for entry in ledger.entries()], ["c0", "c1", "c2", "c3"])
        self.assertEqual(self.copy("none").audit().findings, [])

    def test_whatever_the_umask_others_write_into_no_folder_of_it(self) -> None:
        before = os.umask(0)
        try:
            self.written()
            write_whole(self.folder / "a" / "b" / "open.txt", "x")
            write_whole(self.folder / "c" / "d" / "own.txt", "x", mode=0o600)
        finally:
            os.umask(before)
        for path in self.folder.rglob("*"):
            private = any(part in (".oast", "c") for part in path.relative_to(self.folder).parts)
            self.assertEqual(path.stat().st_mode & (0o077 if private else 0o022), 0, path)

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
                found = ledger.audit().findings
                self.assertTrue(found, (path.name, place))
                self.assertTrue(
                    any(path.name in finding.file for finding in found), (path.name, place, found)
                )
            path.write_bytes(whole)
        self.assertEqual(ledger.audit().findings, [])

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
            self.assertIn(line, [finding.line for finding in ledger.audit().findings], about)
        chain.unlink()
        self.assertIn("is missing or was altered", ledger.audit().findings[0].message)

    def test_content_that_is_missing_or_nobodys_is_found(self) -> None:
        ledger = self.written()
        content = self.folder / "one" / "changes" / "content"
        next(iter(sorted(content.iterdir()))).unlink()
        (content / "notes.txt").write_text("mine")
        (self.folder / "one" / "changes" / "ledger-copy.jsonl").write_text("")
        told = " ".join(finding.message for finding in ledger.audit().findings)
        self.assertIn("which it names, is missing", told)
        self.assertEqual(told.count("this file is not part of the ledger"), 2)

    def test_a_chain_under_another_writers_name_is_found(self) -> None:
        ledger = self.written()
        [chain] = (self.folder / "one" / "changes").glob("ledger-*.jsonl")
        copy = chain.with_name("ledger-0123456789ab.jsonl")
        shutil.copy(chain, copy)
        told = [finding.message for finding in ledger.audit().findings]
        self.assertTrue(any("a copy under another name" in message for message in told), told)
        self.assertTrue(any("is in the chain of 0123456789ab" in message for message in told), told)
        # Also where the entries themselves do not say who wrote them.
        lines = [json.loads(line) for line in chain.read_bytes().splitlines()]
        before = None
        written = []
        for said in lines:
            said = {**{key: value for key, value in said.items() if key != "writer"}, "before": before}
            written.append(canonical_json(said))
            before = digest(written[-1])
        for path in (chain, copy):
            path.write_bytes(b"".join(line + b"\n" for line in written))
        self.assertIn(
            "a copy under another name",
            " ".join(finding.message for finding in ledger.audit().findings),
        )

    def test_without_a_memory_there_is_nothing_to_compare_with_and_that_is_a_finding(self) -> None:
        ledger = self.written()
        [(file, number)] = ledger.seen_until()
        self.assertEqual(number, 4)
        memory = self.folder / "one" / ".oast" / "ledger.json"
        for text in ("", "{", '{"heads": 7}', '{"heads": {"x": 1}}', None):
            memory.unlink() if text is None else memory.write_text(text)
            [finding] = ledger.audit().findings
            self.assertEqual(
                (finding.file, finding.message),
                (
                    ".oast/ledger.json",
                    "there is nothing to compare with, so a shortened ledger cannot be detected",
                ),
            )
        ledger.remember()
        self.assertEqual((ledger.audit().findings, ledger.seen_until()), ([], [(file, 4)]))

    def test_what_was_cut_off_is_found_also_after_later_entries(self) -> None:
        self.written("one", 3)
        shutil.copytree(self.folder / "one" / "changes", self.folder / "two" / "changes")
        two = self.copy("two")
        two.append("begun", "seen", {"reason": "knows all three"})
        [chain] = [
            path for path in (self.folder / "two" / "changes").glob("*.jsonl") if b'"c2"' in path.read_bytes()
        ]
        whole = chain.read_bytes()
        chain.write_bytes(b"".join(whole.splitlines(keepends=True)[:1]))
        with self.assertRaisesRegex(
            LedgerBroken, "entry 3, which this copy knows, is missing or was altered"
        ):
            two.append("begun", "later", {"reason": "after it was cut"})
        self.assertIn(
            "is missing or was altered", " ".join(finding.message for finding in two.audit().findings)
        )
        chain.write_bytes(whole)
        two.append("begun", "later", {"reason": "it is whole again"})
        self.assertEqual(two.audit().findings, [])

    def test_nothing_is_appended_to_a_broken_ledger_until_the_break_is_accepted_and_every_audit_reports_it(
        self,
    ) -> None:
        def cut(lines: list[bytes]) -> list[bytes]:
            return lines[:2]

        def halve(lines: list[bytes]) -> list[bytes]:
            return [*lines[:3], lines[3][: len(lines[3]) // 2]]

        def alter(lines: list[bytes]) -> list[bytes]:
            return [lines[0], lines[1].replace(b"Dunlin", b"Plover"), *lines[2:]]

        def swap(lines: list[bytes]) -> list[bytes]:
            return [lines[1], lines[0], *lines[2:]]

        for damage in (cut, halve, alter, swap, None):
            with self.subTest(damage=damage and damage.__name__):
                name = damage.__name__ if damage else "removed"
                ledger = self.written(name)
                (chain,) = (self.folder / name / "changes").glob("*.jsonl")
                lines = chain.read_bytes().splitlines(keepends=True)
                chain.write_bytes(b"".join(damage(lines))) if damage else chain.unlink()
                for kind in ("proposed", "approved", "begun", "withdrawn"):
                    with self.assertRaisesRegex(
                        LedgerBroken, "the ledger was cut or altered: changes/ledger-"
                    ):
                        ledger.append(kind, "next", {"reason": "as if nothing had been"})
                    self.assertRaises(LedgerBroken, ledger.require_whole)
                accepted = ledger.accept_break("a disk was restored from Friday", "ada@larkwater.example")
                self.assertEqual(len(accepted), 1)
                ledger.require_whole()
                ledger.append("begun", "next", {"reason": "goes on"})
                self.assertEqual(ledger.accept_break("again", "ada@larkwater.example"), [])
                told = " ".join(finding.message for finding in ledger.audit().findings)
                self.assertIn(
                    "accepted by ada@larkwater.example (a disk was restored from Friday): changes/ledger-",
                    told,
                )
                # In a copy that has seen nothing of it as well; and what is cut off now is a break anew.
                shutil.copytree(self.folder / name / "changes", self.folder / f"{name}-clone" / "changes")
                self.assertIn(
                    "a disk was restored",
                    " ".join(f.message for f in self.copy(f"{name}-clone").audit().findings),
                )
                for path in (self.folder / name / "changes").glob("*.jsonl"):
                    if b'"kind":"break"' in path.read_bytes():
                        path.unlink()
                self.assertRaises(LedgerBroken, ledger.append, "begun", "more", {})

    def test_how_a_run_ended_is_written_down_whatever_became_of_the_ledger_meanwhile(self) -> None:
        ledger = self.written()
        (chain,) = (self.folder / "one" / "changes").glob("*.jsonl")
        chain.unlink()
        ledger.append("ended", "c3", {"verdict": "done"})
        self.assertEqual([entry.kind for entry in ledger.entries()], ["break", "ended"])
        self.assertIn("found after the run", " ".join(finding.message for finding in ledger.audit().findings))

    def test_how_a_run_ended_is_written_down_unsigned_where_the_key_is_gone_with_a_break_before_it(
        self,
    ) -> None:
        self.written()
        (chain,) = (self.folder / "one" / "changes").glob("*.jsonl")
        chain.unlink()
        signer = mock.Mock()
        signer.name = "ada@larkwater.example"
        signer.sign.side_effect = StateError("the key")
        ledger = Ledger(self.folder / "one", self.folder / "one" / ".oast", dict(os.environ), signer)
        with self.assertRaisesRegex(StateError, "the key"):
            ledger.accept_break("a disk was restored", "ada@larkwater.example")
        ledger.append("ended", "c3", {"verdict": "done"})
        found = ledger.entries()
        self.assertEqual([entry.kind for entry in found], ["break", "ended"])
        self.assertEqual([entry.said["unsigned"] for entry in found], ["the key"] * 2)

    def test_an_entry_of_another_person_that_holds_something_else_is_a_finding(self) -> None:
        ledger = self.written("one", 1)
        said = {
            "format": "oast.ledger/1",
            "writer": "0123456789ab",
            "number": 1,
            "before": None,
            "kind": "break",
            "change": "",
            "at": "2026",
        }
        for odd in ({"seen": [1]}, {"seen": "x"}, {"seen": {"a": [1]}}):
            line = canonical_json({**said, **odd, "broken": 7})
            (self.folder / "one" / "changes" / "ledger-0123456789ab.jsonl").write_bytes(line + b"\n")
            self.assertTrue(ledger.audit().findings)

    def test_a_line_that_was_being_written_when_its_process_was_killed_is_no_break(self) -> None:
        ledger = self.written()
        (chain,) = (self.folder / "one" / "changes").glob("*.jsonl")
        with chain.open("ab") as file:
            file.write(b'{"at":"2026-')
        ledger.append("begun", "next", {"reason": "goes on"})
        self.assertEqual(ledger.audit().findings, [])
        self.assertEqual(len(ledger.entries()), 5)

    def test_what_stands_on_another_branch_is_not_missing(self) -> None:
        ledger = self.written("one", 1)
        self.git("one", "init", "-q", "-b", "main")
        (self.folder / "one" / ".gitignore").write_text(".oast\n")
        self.git("one", "add", ".")
        self.git("one", "commit", "-qm", "one")
        self.git("one", "checkout", "-qb", "side")
        ledger.append("begun", "side", {"reason": "on a branch"})
        self.git("one", "add", ".")
        self.git("one", "commit", "-qm", "side")
        self.git("one", "checkout", "-q", "main")
        self.assertEqual(ledger.audit().findings, [])
        ledger.append("begun", "main", {"reason": "on the other branch"})
        # Once the branch is gone, nobody can tell whether it was there.
        self.git("one", "branch", "-qD", "side")
        self.assertRaises(LedgerBroken, ledger.append, "begun", "more", {})
        # What was taken back in the history that is checked out is no other branch.
        other = self.written("two", 2)
        self.git("two", "init", "-q", "-b", "main")
        self.git("two", "add", "changes")
        self.git("two", "commit", "-qm", "two")
        (chain,) = (self.folder / "two" / "changes").glob("*.jsonl")
        chain.write_bytes(chain.read_bytes().splitlines(keepends=True)[0])
        self.git("two", "commit", "-qam", "shorter")
        self.assertRaises(LedgerBroken, other.append, "begun", "more", {})

    def test_heads_that_were_recorded_elsewhere_are_compared(self) -> None:
        ledger = self.written()
        head = ledger.head()
        assert head is not None
        self.assertEqual(ledger.audit(anchors=[head]).findings, [])
        (self.folder / "one" / ".oast" / "ledger.json").unlink()
        (chain,) = (self.folder / "one" / "changes").glob("*.jsonl")
        chain.write_bytes(b"".join(chain.read_bytes().splitlines(keepends=True)[:2]))
        ledger.remember()
        anchor = Anchor(head.writer, head.number, head.digest, "a tag of the archive")
        (finding,) = ledger.audit(anchors=[anchor]).findings
        self.assertIn("entry 4, which a tag of the archive names, is missing or was altered", finding.message)

    def test_what_cannot_be_read_is_one_finding_and_the_rest_is_audited(self) -> None:
        ledger = self.written()
        changes = self.folder / "one" / "changes"
        (changes / "ledger-0123456789ab.jsonl").mkdir()
        (changes / "content" / f"{'0' * 64}.json").mkdir()
        next(path for path in sorted((changes / "content").iterdir()) if path.is_file()).write_text("{}")
        told = [finding.message for finding in ledger.audit().findings]
        self.assertEqual(sum("cannot read the file" in message for message in told), 2, told)
        self.assertTrue(any("was altered" in message for message in told), told)

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
        self.assertEqual(two.audit().findings, [])
        self.assertEqual({entry.change for entry in two.entries()}, {"c0", "c1", "from-one", "from-two"})
        after = two.append("begun", "later", {"reason": "knows of both"})
        self.assertEqual(
            len(after.said["seen"]), 1, "the entry of the other copy that it has not seen before"
        )
        # Whoever takes back what another copy has seen is found out by that copy.
        chain = next(
            path
            for path in (self.folder / "two" / "changes").glob("*.jsonl")
            if "from-one" in path.read_text()
        )
        chain.write_bytes(b"".join(chain.read_bytes().splitlines(keepends=True)[:-1]))
        self.assertIn("it refers to an entry", " ".join(finding.message for finding in two.audit().findings))

    def test_a_copy_of_the_folder_begins_a_chain_of_its_own(self) -> None:
        self.written("one", 2)
        shutil.copytree(self.folder / "one", self.folder / "copy")
        for name in ("one", "copy"):
            self.copy(name).append("begun", "both", {"reason": name})
            self.assertEqual(self.copy(name).audit().findings, [])
        chains = {
            path.name for name in ("one", "copy") for path in (self.folder / name / "changes").glob("*.jsonl")
        }
        self.assertEqual(len(chains), 2)

    def test_the_last_changes_are_found_without_reading_all_and_whole(self) -> None:
        ledger = self.written("one", 0)
        for entry in range(30):
            ledger.append("proposed", f"c{entry}", {"reason": "x" * 90})
        for entry in (3, 29):
            ledger.append("withdrawn", f"c{entry}", {"reason": "no"})
        with mock.patch("oast.change.record.ledger.WINDOW", 2000):
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
