"""The examples of the pages that speak of all of the network are run, on the demo's whole estate."""

from __future__ import annotations

import unittest

from test_docs import PageTest


class WholeTest(PageTest):
    """Pages that speak of all of the network."""

    whole = True

    def test_the_tour_of_the_readme(self) -> None:
        self.oast("push", "-m", "set up", "--one-wave", "--yes")
        self.oast("verify", "--wait", "30")
        self.check("../README.md")

    def test_the_page_about_the_estate(self) -> None:
        self.check("estate.md")

    def test_the_page_about_delivery(self) -> None:
        self.check("delivery.md")

    def test_the_pages_about_checks_and_readings(self) -> None:
        # The first of them delivers, and what the second asks for is there then.
        self.check("checks.md")
        self.check("readings.md")

    def test_the_page_about_the_simulator(self) -> None:
        self.check("simulator.md")


if __name__ == "__main__":
    unittest.main()
