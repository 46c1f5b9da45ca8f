"""What happens to a simulated device at once: a restart, another host key, a cable that is cut, mended, or comes and goes."""

from __future__ import annotations

import json
import re
import socket
import threading
import time

from larkwater import SECRETS, LarkwaterTest

CORE, EDGE = "gull-core-1", "tern-edge-1"


class AtOnceTest(LarkwaterTest):
    delivered = True

    def oper(self, device: str, port: str) -> str:
        found = re.search(rf"(?m)^{port} +up +(up|down)", self.console(device, "read interfaces"))
        return found[1] if found else "not there"

    def until(self, wanted: str) -> None:
        for _ in range(200):
            if self.oper(EDGE, "port1") == wanted:
                return
            time.sleep(0.05)
        self.fail(f"port1 was never {wanted}")

    def test_after_a_restart_a_device_runs_what_it_starts_with(self) -> None:
        before = self.running(EDGE)
        self.console(
            EDGE, "raise", SECRETS["privilege-password"], "edit", "system", "  contact by-hand", "close"
        )
        self.assertNotEqual(self.running(EDGE), before)
        self.fault(EDGE, "restart")
        self.assertEqual(self.running(EDGE), before)

    def test_another_host_key_is_told_and_trusted_on_purpose_only(self) -> None:
        self.fault(EDGE, "key")
        self.assertIn("the host key has changed", self.oast("diff", "--on", f"name={EDGE}", expect=4).err)
        self.oast("devices", "trust", "--on", f"name={EDGE}", "--replace", "--yes")
        self.assertRegex(self.oast("diff", "--on", f"name={EDGE}").out, r"(?m)^\d+ devices? in sync$")

    def test_a_request_that_is_not_answered_is_an_error(self) -> None:
        with socket.create_server(("127.0.0.1", 0)) as server:
            path = self.estate / ".oast" / "sim" / "listening.json"
            listening = json.loads(path.read_text())
            path.write_text(
                json.dumps(
                    {**listening, "control": {**listening["control"], "port": server.getsockname()[1]}}
                )
            )

            def hang_up() -> None:
                connection, _ = server.accept()
                connection.makefile("rb").readline()
                connection.close()

            thread = threading.Thread(target=hang_up)
            thread.start()
            run = self.oast("sim", "fault", EDGE, "restart", expect=4)
            thread.join()
            self.assertIn("the simulator ended the connection without an answer", run.err)
            path.write_text(json.dumps(listening))

    def test_a_cable_that_is_cut_is_seen_at_both_ends_until_it_is_mended(self) -> None:
        self.assertEqual(self.oper(EDGE, "port1"), "up")
        self.fault(CORE, "cut", "--match", "port2")
        self.assertEqual((self.oper(CORE, "port2"), self.oper(EDGE, "port1")), ("down", "down"))
        self.assertIn("interface port1 is up", self.oast("verify", "--on", f"name={EDGE}", expect=1).out)
        self.fault(EDGE, "mend", "--match", "port1")
        self.assertEqual((self.oper(CORE, "port2"), self.oper(EDGE, "port1")), ("up", "up"))

    def test_a_cable_that_comes_and_goes_does_so_until_it_is_mended(self) -> None:
        self.fault(CORE, "flap", "--match", "port2", "--seconds", "0.3")
        for wanted in ("down", "up", "down"):
            self.until(wanted)
        self.fault(EDGE, "mend", "--match", "port1")
        for _ in range(10):
            self.assertEqual(self.oper(EDGE, "port1"), "up")
            time.sleep(0.1)

    def test_where_there_is_no_cable_none_can_be_cut(self) -> None:
        run = self.oast("sim", "fault", CORE, "cut", "--match", "port99", expect=None)
        self.assertNotEqual(run.code, 0)
        self.assertIn("there is no cable in 'port99' of gull-core-1", run.err)
