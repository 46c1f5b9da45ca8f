"""The use cases, with typed results and events: what `import oast` offers, and all that the command line
calls."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.operations.ask import (
        DEVICE as DEVICE,
        CommandListing as CommandListing,
        QueryResult as QueryResult,
        ask_devices as ask_devices,
        compiled as compiled,
        different_lines as different_lines,
        fields_of as fields_of,
        list_raw as list_raw,
        readings_known as readings_known,
        records_document as records_document,
        require_read_only as require_read_only,
    )
    from oast.operations.backups import backup as backup, backup_differences as backup_differences
    from oast.operations.changes import (
        APPROVED as APPROVED,
        BEGAN as BEGAN,
        Change as Change,
        Changes as Changes,
        accept_break as accept_break,
        audit as audit,
        change_document as change_document,
        ledger_of as ledger_of,
        recorded_plan as recorded_plan,
    )
    from oast.operations.check_reports import (
        became_document as became_document,
        junit_of as junit_of,
        listed_document as listed_document,
        verify_document as verify_document,
    )
    from oast.operations.deliver import (
        LONGEST_REASON as LONGEST_REASON,
        DeliveryOptions as DeliveryOptions,
        DeliveryResult as DeliveryResult,
        Plan as Plan,
        Verdict as Verdict,
        check_policies as check_policies,
        check_times as check_times,
        compare as compare,
        push_document as push_document,
        require_reason as require_reason,
    )
    from oast.operations.documents import device_lines as device_lines, problem_document as problem_document
    from oast.operations.drift import (
        DriftReport as DriftReport,
        drifted_document as drifted_document,
        find_drift as find_drift,
    )
    from oast.operations.history_plot import draw_history as draw_history
    from oast.operations.intent_context import (
        IntentContext as IntentContext,
        prepare_intents as prepare_intents,
        render as render,
    )
    from oast.operations.interface import (
        OpenEstate as OpenEstate,
        OpenSession as OpenSession,
        open_estate as open_estate,
    )
    from oast.operations.jobs import POLICY as POLICY
    from oast.operations.lint import LintResult as LintResult, lint_estate as lint_estate
    from oast.operations.onboard import serve as serve
    from oast.operations.platform_draft import (
        draft_of_device as draft_of_device,
        draft_platform as draft_platform,
        possible_names as possible_names,
    )
    from oast.operations.platforms import (
        ParseReport as ParseReport,
        ProbeStep as ProbeStep,
        not_probed as not_probed,
        parse_report as parse_report,
        probe_platform as probe_platform,
    )
    from oast.operations.proposals import (
        Approved as Approved,
        OutdatedDevice as OutdatedDevice,
        approve as approve,
        prepared_revert as prepared_revert,
        propose as propose,
        waiting as waiting,
        withdraw as withdraw,
    )
    from oast.operations.publish import (
        PublishPlan as PublishPlan,
        PublishResult as PublishResult,
        plan_publishing as plan_publishing,
        publish_facts as publish_facts,
    )
    from oast.operations.raw_commands import asked as asked, prepare_raw_commands as prepare_raw_commands
    from oast.operations.recovery import RecoveredRun as RecoveredRun, RunRecovery as RunRecovery
    from oast.operations.rehearsal import Rehearsal as Rehearsal, rehearse as rehearse
    from oast.operations.report import junit as junit, markdown as markdown
    from oast.operations.restore import NOW as NOW, Restore as Restore, copied as copied, restored as restored
    from oast.operations.secret_read import SecretAt as SecretAt, secrets_at as secrets_at
    from oast.operations.secret_rotation import Rotation as Rotation, rotation as rotation
    from oast.operations.snapshot_store import load_snapshot as load_snapshot, save_snapshot as save_snapshot
    from oast.operations.sources import (
        RefreshPlan as RefreshPlan,
        owned as owned,
        plan_refresh as plan_refresh,
        require_allowed as require_allowed,
        write as write,
    )
    from oast.operations.staging import (
        StagedRow as StagedRow,
        Staging as Staging,
        forget as forget,
        settings_of as settings_of,
        stage as stage,
    )
    from oast.operations.staging_approval import (
        propose_staging as propose_staging,
        stage_approved as stage_approved,
        staged_devices as staged_devices,
    )
    from oast.operations.verify import (
        Behind as Behind,
        Verification as Verification,
        behind as behind,
        checks_for as checks_for,
        verify_network as verify_network,
    )
    from oast.operations.watch import (
        FAILED as FAILED,
        RIGHT as RIGHT,
        JobFinished as JobFinished,
        JobStarted as JobStarted,
        JobTrouble as JobTrouble,
        Watch as Watch,
        WatchEvent as WatchEvent,
        jobs_document as jobs_document,
        waiting_document as waiting_document,
    )
    from oast.operations.yang import read_yang_modules as read_yang_modules

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "ask": (
            "CommandListing",
            "DEVICE",
            "QueryResult",
            "ask_devices",
            "compiled",
            "different_lines",
            "fields_of",
            "list_raw",
            "readings_known",
            "records_document",
            "require_read_only",
        ),
        "backups": ("backup", "backup_differences"),
        "changes": (
            "APPROVED",
            "BEGAN",
            "Change",
            "Changes",
            "accept_break",
            "audit",
            "change_document",
            "ledger_of",
            "recorded_plan",
        ),
        "check_reports": ("became_document", "junit_of", "listed_document", "verify_document"),
        "deliver": (
            "DeliveryOptions",
            "DeliveryResult",
            "LONGEST_REASON",
            "Plan",
            "Verdict",
            "check_policies",
            "check_times",
            "compare",
            "push_document",
            "require_reason",
        ),
        "documents": ("device_lines", "problem_document"),
        "drift": ("DriftReport", "drifted_document", "find_drift"),
        "history_plot": ("draw_history",),
        "intent_context": ("IntentContext", "prepare_intents", "render"),
        "interface": ("OpenEstate", "OpenSession", "open_estate"),
        "jobs": ("POLICY",),
        "lint": ("LintResult", "lint_estate"),
        "onboard": ("serve",),
        "platform_draft": ("draft_of_device", "draft_platform", "possible_names"),
        "platforms": ("ParseReport", "ProbeStep", "not_probed", "parse_report", "probe_platform"),
        "proposals": (
            "Approved",
            "OutdatedDevice",
            "approve",
            "prepared_revert",
            "propose",
            "waiting",
            "withdraw",
        ),
        "publish": ("PublishPlan", "PublishResult", "plan_publishing", "publish_facts"),
        "raw_commands": ("asked", "prepare_raw_commands"),
        "rehearsal": ("Rehearsal", "rehearse"),
        "report": ("junit", "markdown"),
        "restore": ("NOW", "Restore", "copied", "restored"),
        "recovery": ("RecoveredRun", "RunRecovery"),
        "secret_read": ("SecretAt", "secrets_at"),
        "secret_rotation": ("Rotation", "rotation"),
        "snapshot_store": ("load_snapshot", "save_snapshot"),
        "sources": ("RefreshPlan", "owned", "plan_refresh", "require_allowed", "write"),
        "staging": ("StagedRow", "Staging", "forget", "settings_of", "stage"),
        "staging_approval": ("propose_staging", "stage_approved", "staged_devices"),
        "verify": ("Behind", "Verification", "behind", "checks_for", "verify_network"),
        "watch": (
            "FAILED",
            "JobFinished",
            "JobStarted",
            "JobTrouble",
            "RIGHT",
            "Watch",
            "WatchEvent",
            "jobs_document",
            "waiting_document",
        ),
        "yang": ("read_yang_modules",),
    },
)
