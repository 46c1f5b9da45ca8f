"""What one change may take away without a word of permission."""

from __future__ import annotations

import unittest

from larkwater import LarkwaterTest


class LimitsTest(LarkwaterTest):
    delivered = True

    def nothing_rendered(self, section: str) -> None:
        """The template owns what it did, and renders nothing."""
        path = self.estate / "templates" / "bine" / f"{section}.j2"
        path.write_text(path.read_text().partition("#}")[0] + "#}\n")

    def test_a_template_that_renders_nothing_does_not_empty_a_device(self) -> None:
        before = self.running("gull-core-1")
        self.nothing_rendered("routing")
        run = self.oast("push", "-m", "x", "--on", "role=core", "--yes", expect=1)
        self.assertRegex(
            run.out,
            r"removal limit exceeded: \d+ of \d+ statements of the section 'routing' \(limit: share\): gull-core-1, heron-core-1",
        )
        self.assertIn(
            "error: the change removes more than the limits allow; nothing was sent\nhint: allow it for this change with --allow-removals",
            run.err,
        )
        self.assertEqual(self.running("gull-core-1"), before)
        document = self.oast(
            "push", "-m", "x", "--on", "role=core", "--yes", "--format", "json", expect=1
        ).json()
        self.assertEqual({(d["state"], d["cause"]) for d in document["devices"]}, {("unchanged", "held")})
        difference = self.oast("diff", "--on", "role=core", "--format", "json", expect=1).json()
        self.assertEqual({one["limit"] for one in difference["limits_exceeded"]}, {"share"})
        self.assertIn(
            "removal limit exceeded",
            self.oast("push", "-m", "x", "--on", "role=core", "--dry-run", expect=1).out,
        )

    def test_the_last_entry_of_a_list_does_not_go_by_itself(self) -> None:
        self.nothing_rendered("users")
        told = self.oast(
            "push", "-m", "x", "--on", "name=gull-core-1", "--section", "users", "--yes", expect=1
        ).out
        self.assertRegex(
            told, r"removal limit exceeded: all \d 'user' entries \(limit: last_of\): gull-core-1"
        )
        self.edit("oast.toml", "[secrets]", "[delivery.limits]\nlast_of = []\n\n[secrets]")
        run = self.oast(
            "push", "-m", "x", "--on", "name=gull-core-1", "--section", "users", "--dry-run", expect=1
        )
        self.assertNotIn("removal limit", run.out)

    def test_a_count_is_a_limit_and_a_change_may_be_allowed_to_go_beyond_it(self) -> None:
        self.edit("oast.toml", "[secrets]", "[delivery.limits]\nremovals = 3\nshare = 1\n\n[secrets]")
        self.nothing_rendered("time")
        command = ("push", "-m", "x", "--on", "name=gull-core-1", "--section", "time", "--yes")
        self.assertRegex(
            self.oast(*command, expect=1).out,
            r"removal limit exceeded: .*3.*\(limit: removals\).*: gull-core-1",
        )
        self.assertIn("1 device delivered", self.oast(*command, "--allow-removals").out)
        self.assertNotIn("ntp", self.running("gull-core-1"))

    def test_a_limit_that_limits_nothing_is_a_mistake(self) -> None:
        self.edit("oast.toml", "[secrets]", '[delivery.limits]\nlast_of = ["user", "neighbour"]\n\n[secrets]')
        told = self.oast("push", "-m", "x", "--yes", expect=3).err
        line = self.line_of("oast.toml", "last_of")
        self.assertIn(f"oast.toml:{line}: no platform of the estate has a list 'neighbour'", told)
        self.edit("oast.toml", 'last_of = ["user", "neighbour"]', "shares = 2")
        self.assertIn("unknown key 'shares'", self.oast("push", "-m", "x", "--yes", expect=3).err)
        self.edit("oast.toml", "shares = 2", "share = 2")
        self.assertIn(
            "'share' must be a number from 0 to 1", self.oast("push", "-m", "x", "--yes", expect=3).err
        )


if __name__ == "__main__":
    unittest.main()
