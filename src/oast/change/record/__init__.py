"""What is written down: the journal of runs, the ledger of changes, approvals, locks, baselines and backups
before a change."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.change.record.approval import (
        LedgerSigner as LedgerSigner,
        Signers as Signers,
        proposed_text as proposed_text,
        require_valid_approval as require_valid_approval,
        signed_text as signed_text,
    )
    from oast.change.record.baseline import (
        Backup as Backup,
        Baseline as Baseline,
        Drift as Drift,
        baseline_path as baseline_path,
        drift_from_baseline as drift_from_baseline,
        kept_text as kept_text,
        load_baseline as load_baseline,
        save_baseline as save_baseline,
    )
    from oast.change.record.journal import DeviceJournal as DeviceJournal, Journal as Journal
    from oast.change.record.journal_reader import (
        KEEP as KEEP,
        REVERT as REVERT,
        DeviceInUnknownState as DeviceInUnknownState,
        OpenDevice as OpenDevice,
        OpenRun as OpenRun,
        devices_in_unknown_state as devices_in_unknown_state,
        interrupted_runs as interrupted_runs,
        now_text as now_text,
        open_runs as open_runs,
        stored_plan_of as stored_plan_of,
        timeline_of as timeline_of,
        unknown_state_error as unknown_state_error,
    )
    from oast.change.record.ledger import Ledger as Ledger
    from oast.change.record.ledger_audit import Audit as Audit, SignedRange as SignedRange
    from oast.change.record.ledger_entry import (
        BREAK as BREAK,
        Anchor as Anchor,
        Entry as Entry,
        Finding as Finding,
        author_identity as author_identity,
        canonical_json as canonical_json,
        commit_of as commit_of,
        digest as digest,
    )
    from oast.change.record.locks import RunLock as RunLock, device_lock as device_lock

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "approval": (
            "LedgerSigner",
            "Signers",
            "proposed_text",
            "require_valid_approval",
            "signed_text",
        ),
        "baseline": (
            "Backup",
            "Baseline",
            "baseline_path",
            "Drift",
            "drift_from_baseline",
            "kept_text",
            "load_baseline",
            "save_baseline",
        ),
        "journal": (
            "DeviceJournal",
            "Journal",
        ),
        "journal_reader": (
            "DeviceInUnknownState",
            "KEEP",
            "OpenDevice",
            "OpenRun",
            "REVERT",
            "devices_in_unknown_state",
            "interrupted_runs",
            "now_text",
            "open_runs",
            "stored_plan_of",
            "timeline_of",
            "unknown_state_error",
        ),
        "ledger": ("Ledger",),
        "ledger_audit": (
            "Audit",
            "SignedRange",
        ),
        "ledger_entry": (
            "Anchor",
            "author_identity",
            "BREAK",
            "canonical_json",
            "commit_of",
            "digest",
            "Entry",
            "Finding",
        ),
        "locks": (
            "RunLock",
            "device_lock",
        ),
    },
)
