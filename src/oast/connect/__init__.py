"""Sessions with devices: SSH command lines, transcripts, prompts, host keys, jump hosts and call home."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.connect.call_home import CallHome as CallHome, handshake_done as handshake_done
    from oast.connect.capability import Capability as Capability
    from oast.connect.channel import Transport as Transport
    from oast.connect.connector import (
        NETCONF_PORT as NETCONF_PORT,
        ConnectionInfo as ConnectionInfo,
        Connector as Connector,
    )
    from oast.connect.host_keys import (
        HostKey as HostKey,
        KnownHosts as KnownHosts,
        host_key_of as host_key_of,
    )
    from oast.connect.management_path import Address as Address, SessionAddresses as SessionAddresses
    from oast.connect.prompt_reader import ANSWERS as ANSWERS
    from oast.connect.session import (
        AnswerLimits as AnswerLimits,
        CommandLine as CommandLine,
        Session as Session,
        close_sessions as close_sessions,
        hold_answer as hold_answer,
    )
    from oast.connect.session_draft import (
        SessionCommands as SessionCommands,
        SessionDraft as SessionDraft,
        draft_session as draft_session,
    )
    from oast.connect.transcript import MOST_LINES as MOST_LINES, Transcript as Transcript
    from oast.connect.transport import Login as Login, Target as Target, connect as connect

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "call_home": (
            "CallHome",
            "handshake_done",
        ),
        "capability": ("Capability",),
        "channel": ("Transport",),
        "connector": (
            "ConnectionInfo",
            "Connector",
            "NETCONF_PORT",
        ),
        "host_keys": (
            "HostKey",
            "KnownHosts",
            "host_key_of",
        ),
        "management_path": (
            "Address",
            "SessionAddresses",
        ),
        "prompt_reader": ("ANSWERS",),
        "session": (
            "AnswerLimits",
            "CommandLine",
            "Session",
            "close_sessions",
            "hold_answer",
        ),
        "session_draft": (
            "SessionCommands",
            "SessionDraft",
            "draft_session",
        ),
        "transcript": (
            "MOST_LINES",
            "Transcript",
        ),
        "transport": (
            "Login",
            "Target",
            "connect",
        ),
    },
)
