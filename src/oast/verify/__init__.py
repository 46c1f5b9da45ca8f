"""Checks of readings: derived from intent, written by the engineer, or against a snapshot."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.verify.checks import (
        Check as Check,
        CheckResult as CheckResult,
        at_least as at_least,
        evaluate as evaluate,
        later_neighbors as later_neighbors,
        must_match as must_match,
        waits_for as waits_for,
    )
    from oast.verify.custom_checks import (
        custom_checks_of as custom_checks_of,
        read_custom_checks as read_custom_checks,
    )
    from oast.verify.derived_checks import derive_checks as derive_checks
    from oast.verify.intent_facts import Cable as Cable, IntentFacts as IntentFacts
    from oast.verify.regression_checks import (
        NAMES as NAMES,
        devices_within_hops as devices_within_hops,
        facts_removed as facts_removed,
        regression_checks_of as regression_checks_of,
    )
    from oast.verify.root_cause import RootCause as RootCause, root_causes as root_causes
    from oast.verify.snapshots import (
        GONE as GONE,
        GOOD as GOOD,
        ExpectedLoss as ExpectedLoss,
        Snapshot as Snapshot,
        StateChange as StateChange,
        parse_expected_loss as parse_expected_loss,
        snapshot_readings as snapshot_readings,
        state_changes as state_changes,
    )

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "checks": (
            "at_least",
            "Check",
            "CheckResult",
            "evaluate",
            "later_neighbors",
            "must_match",
            "waits_for",
        ),
        "custom_checks": (
            "custom_checks_of",
            "read_custom_checks",
        ),
        "derived_checks": ("derive_checks",),
        "intent_facts": (
            "Cable",
            "IntentFacts",
        ),
        "regression_checks": (
            "NAMES",
            "devices_within_hops",
            "facts_removed",
            "regression_checks_of",
        ),
        "root_cause": (
            "RootCause",
            "root_causes",
        ),
        "snapshots": (
            "ExpectedLoss",
            "GONE",
            "GOOD",
            "Snapshot",
            "StateChange",
            "parse_expected_loss",
            "snapshot_readings",
            "state_changes",
        ),
    },
)
