"""Former names of options and keys are errors that name the new ones."""

from __future__ import annotations

import unittest

from larkwater import EstateTest
from oast.spelling import RENAMED, spelling_hint


class RenamedTest(EstateTest):
    def test_every_former_name_leads_to_its_new_one_where_that_is_known(self) -> None:
        for former, new in RENAMED.items():
            self.assertEqual(spelling_hint(former, [new, "other"]), f"it was renamed: write '{new}'")
            self.assertNotIn("renamed", spelling_hint(former, ["other"]))

    def test_former_keys_and_options_are_refused_by_the_program(self) -> None:
        for key, new, table in (
            ("at_once", "parallel", "connection"),
            ("answer_at_most_s", "max_answer_s", "connection"),
            ("hold_s", "stable_for_s", "delivery"),
            ("watch_hops", "neighbor_hops", "delivery"),
            ("most_failures", "max_failures", "delivery"),
        ):
            self.edit("oast.toml", f"[{table}]\n", f"[{table}]\n{key} = 1\n")
            run = self.oast("lint", expect=3)
            self.assertRegex(run.out, rf"oast\.toml:\d+: unknown key '{key}' in \[{table}\]")
            self.assertIn(f"it was renamed: write '{new}'", run.out)
            self.edit("oast.toml", f"[{table}]\n{key} = 1\n", f"[{table}]\n")
        for former, new in (
            ("second_way", "alternate_address"),
            ("second_way_interface", "alternate_interface"),
        ):
            (self.estate / "inventory" / "more.yaml").write_text(
                f"devices:\n  pier-edge-9: {{address: 192.0.2.9, platform: bine, site: gull, role: edge, number: 9, {former}: 192.0.2.8}}\n"
            )
            run = self.oast("lint", expect=3)
            self.assertIn(f"'{former}' was renamed", run.out)
            self.assertIn(f"write '{new}'", run.out)
            (self.estate / "inventory" / "more.yaml").unlink()
        for words, new in (
            (("push", "--at-once", "3"), "--parallel"),
            (("push", "--watch", "1"), "--neighbor-hops"),
            (("push", "--most-failures", "1"), "--max-failures"),
            (("push", "--again"), "--repeat"),
            (("secret", "age", "--most", "9"), "--max-age"),
            (("sim", "maker"), "manufacturer"),
            (("sim", "box"), "new-device"),
            (("change", "resume"), "recover"),
            (("change", "recover", "--give-up"), "--abandon"),
        ):
            self.assertIn(f"it was renamed: write '{new}'", self.oast(*words, expect=2).err, words)


if __name__ == "__main__":
    unittest.main()
