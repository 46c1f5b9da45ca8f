"""oast change revert: the devices of a change go back to what they were before it."""

from __future__ import annotations

import argparse
import sys
from dataclasses import replace

from oast.cli.estate_option import estate_of
from oast.cli.output import join_names
from oast.cli.push import deliver, delivery_options, set_recorded_mode
from oast.cli.restore import Restoring
from oast.operations import LONGEST_REASON, Changes, prepared_revert

NAMED = 6


def run_revert(options: argparse.Namespace) -> int:
    """Deliver what was there before, as a new change."""
    changes = Changes(estate_of(options))
    change = changes.one(options.change)
    prepared, recorded, later = prepared_revert(changes, change, options.on)
    for one in later:
        sys.stderr.write(
            f"careful: {one.change.name} ({one.change.reason}) has touched the same parts of"
            f" {join_names(one.devices, NAMED)} since then; it is taken back with it\n"
        )
    options.reason = options.reason or f"Back to before {change.name}: {change.reason}"[:LONGEST_REASON]
    set_recorded_mode(options, replace(recorded.manner, mode="replace"))
    return deliver(options, prepared, delivery_options(options), Restoring(f"back to before {change.name}"))
