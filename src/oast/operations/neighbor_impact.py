"""What stands around the devices of a change, made ready to be looked at."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

from oast.change.plan import Comparison
from oast.change.rollout import NeighborImpact
from oast.config import Node, apply_edits
from oast.connect import Connector
from oast.estate import DeliverySettings
from oast.operations.intent_context import IntentContext
from oast.readings import Readings
from oast.verify import (
    Cable,
    Check,
    ExpectedLoss,
    IntentFacts,
    devices_within_hops,
    facts_removed,
    regression_checks_of,
)


def neighbor_impact_of(
    preparation: IntentContext,
    comparisons: Sequence[Comparison],
    connector: Connector,
    settings: DeliverySettings,
    expect: Sequence[ExpectedLoss],
) -> NeighborImpact | None:
    """What is looked at around the devices of `comparisons` that change; None when nobody is."""
    estate = preparation.estate
    hops = settings.neighbor_hops
    changing = [one for one in comparisons if one.edits and not one.manner.into_startup]
    if not hops or not changing:
        return None
    cables: dict[Cable, Cable] = {}
    for link in estate.links:
        cables[link.one], cables[link.other] = link.other, link.one
    without = facts_removed(
        [(_as(one, one.running), _as(one, apply_edits(one.edits, one.running))) for one in changing], cables
    )

    def checks_of(name: str, readings: Readings) -> Iterable[Check]:
        return regression_checks_of(name, readings, without, expect)

    def near(names: Iterable[str]) -> set[str]:
        return devices_within_hops(names, cables, cables.__getitem__, hops)

    return NeighborImpact(connector, preparation.network, near, checks_of, settings.parallel)


def _as(comparison: Comparison, tree: Node) -> IntentFacts:
    return IntentFacts(replace(comparison.intent, tree=tree))
