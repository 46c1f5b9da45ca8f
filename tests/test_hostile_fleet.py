"""Hostile devices among many, on real servers in several processes: all are named, no honest one fails, and memory stays small."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from hostile_servers import HOSTILE, HOSTILE_NETCONF, PASSWORD, Fleet, fleet
from larkwater import clean_environment

MEMORY_AT_MOST = 300_000_000
QUICK = "command_timeout_s = 15\nmax_answer_s = 20\nmax_answer_bytes = 2000000\nmax_answer_lines = 10000\nmax_answer_elements = 10000\n"


def compared(found: Fleet) -> tuple[int, dict[str, object], int]:
    """`oast diff` on all devices, in a process of its own: its exit code, its document, and the most memory that it had, in bytes."""
    command = [sys.executable, "-m", "oast", "diff", "--format", "json", "--estate", str(found.estate), "-q"]
    process = subprocess.Popen(
        command,
        env={**clean_environment(), "OAST_SECRET_LOGIN": PASSWORD},
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    assert process.stdout is not None
    assert process.stderr is not None
    out = process.stdout.read()
    err = process.stderr.read()
    _, status, used = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    process.stdout.close()
    process.stderr.close()
    if not out:
        raise AssertionError(err)
    return process.returncode, json.loads(out), used.ru_maxrss * 1024


def wrong_in(found: Fleet, document: dict[str, object], memory: int) -> list[str]:
    """What is not as it should be after comparing."""
    devices = {one["device"] for one in document["devices"]}  # type: ignore[attr-defined]
    failed = {one["device"]: one["reason"] for one in document["failed"]}  # type: ignore[attr-defined]
    wrong = [
        f"{name} is not named" for name in sorted((found.honest | found.hostile) - devices - set(failed))
    ]
    wrong += [
        f"{name}, which is honest, failed: {failed[name]}" for name in sorted(found.honest & set(failed))
    ]
    if memory > MEMORY_AT_MOST:
        wrong.append(f"{memory // 1_000_000} MB of memory")
    return wrong


class HostileFleetTest(unittest.TestCase):
    def test_hostile_devices_fail_alone(self) -> None:
        with (
            tempfile.TemporaryDirectory(prefix="oast-test-") as folder,
            fleet(Path(folder), 24, len(HOSTILE), 2, QUICK) as found,
        ):
            code, document, memory = compared(found)
            self.assertEqual(wrong_in(found, document, memory), [])
            self.assertEqual(code, 4)
            failed = {one["device"]: one["reason"] for one in document["failed"]}  # type: ignore[attr-defined]
            self.assertGreaterEqual(len(failed), len(HOSTILE) - 1)
            told = " ".join(failed.values())
            for part in ("sent too much: more than", "no answer within", "60 levels"):
                self.assertIn(part, told)

    def test_hostile_servers_of_netconf_fail_alone(self) -> None:
        hostile = len(HOSTILE_NETCONF)
        with (
            tempfile.TemporaryDirectory(prefix="oast-test-") as folder,
            fleet(Path(folder), hostile + 9, hostile, 2, QUICK, "netconf") as found,
        ):
            code, document, memory = compared(found)
            self.assertEqual(wrong_in(found, document, memory), [])
            self.assertEqual(code, 4)
            failed = {one["device"]: one["reason"] for one in document["failed"]}  # type: ignore[attr-defined]
            told = " ".join(failed.values())
            for part in (
                "more than 10000 elements",
                "attributes in one message",
                "more than 2000000 bytes",
                "without a message-id",
                "5000 notifications and no reply",
            ):
                self.assertIn(part, told)


if __name__ == "__main__":
    unittest.main()
