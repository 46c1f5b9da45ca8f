"""oast change revert: roll back a delivered change, as a new change."""

from __future__ import annotations

import sys
from dataclasses import replace

from oast.cli.change import RevertOptions
from oast.cli.estate_option import estate_of
from oast.cli.output import join_names
from oast.cli.push import deliver, delivery_options
from oast.cli.restore import Restoring
from oast.operations import LONGEST_REASON, Changes, prepared_revert

NAMED = 6


def run_revert(options: RevertOptions) -> int:
    """Deliver what was there before, as a new change."""
    changes = Changes(estate_of(options))
    change = changes.one(options.change)
    prepared, recorded, later = prepared_revert(changes, change, options.on)
    for one in later:
        sys.stderr.write(
            f"warning: {one.change.name} ({one.change.reason}) changed the same parts of "
            f"{join_names(one.devices, NAMED)} later; it is rolled back, too\n"
        )
    options = replace(
        options,
        reason=options.reason or f"Roll back {change.name}: {change.reason}"[:LONGEST_REASON],
        mode="replace",
        remove_unknown=recorded.manner.remove_unknown,
        into=recorded.manner.into,
    )
    return deliver(options, prepared, delivery_options(options), Restoring(f"rollback of {change.name}"))
