"""Checks and what was found, as documents: JSON and JUnit XML."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any
from xml.etree import ElementTree

from oast.operations.documents import check_document, origins_document
from oast.operations.intent_context import IntentContext
from oast.operations.report import printable
from oast.operations.verify import Verification, behind
from oast.verify import Check, ExpectedLoss, StateChange


def verify_document(preparation: IntentContext, found: Verification) -> dict[str, Any]:
    """`oast.verify/1`, without its name."""
    devices = [
        {
            "device": name,
            "checks": [check_document(result, behind(preparation, result.check)) for result in results],
        }
        for name, results in found.results.items()
    ]
    return {
        "devices": devices,
        "failed": [{"device": name, "reason": error.message} for name, error in found.failed],
    }


def listed_document(preparation: IntentContext, checks: Mapping[str, Sequence[Check]]) -> dict[str, Any]:
    """`oast.checks/1`, without its name."""
    return {
        "devices": [
            {
                "device": name,
                "checks": [
                    {
                        "check": check.title,
                        "reading": check.reading,
                        "expected": check.expected,
                        **origins_document(behind(preparation, check)),
                    }
                    for check in found
                ],
            }
            for name, found in checks.items()
        ]
    }


def became_document(one: StateChange, meant: Sequence[ExpectedLoss]) -> dict[str, Any]:
    """The result for one record; a `lost` one may have been `expected`."""
    return {
        "device": one.device,
        "reading": one.reading,
        "what": one.what,
        "was": one.was,
        "now": one.now,
        "lost": one.lost,
        "expected": one.lost and any(may(one) for may in meant),
    }


def junit_of(preparation: IntentContext, found: Verification) -> str:
    """JUnit XML: a suite for each device, a test case for each check; a device that could not be read is an
    error."""
    suites = ElementTree.Element(
        "testsuites",
        tests=str(len(found.every)),
        failures=str(len(found.wrong)),
        errors=str(len(found.failed)),
    )
    for name, results in found.results.items():
        wrong = [result for result in results if not result.passed]
        suite = ElementTree.SubElement(
            suites, "testsuite", name=name, tests=str(len(results)), failures=str(len(wrong)), errors="0"
        )
        for result in results:
            case = ElementTree.SubElement(
                suite, "testcase", classname=name, name=printable(result.check.title)
            )
            if not result.passed:
                failure = ElementTree.SubElement(
                    case, "failure", message=printable(result.finding), type=result.check.reading
                )
                failure.text = printable(f"{result.finding}\n{behind(preparation, result.check)}")
    for name, error in found.failed:
        suite = ElementTree.SubElement(suites, "testsuite", name=name, tests="0", failures="0", errors="1")
        case = ElementTree.SubElement(suite, "testcase", classname=name, name="the device answers")
        ElementTree.SubElement(case, "error", message=printable(error.message))
    ElementTree.indent(suites)
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(suites, encoding="unicode") + "\n"
    )
