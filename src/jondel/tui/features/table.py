"""The features there are, in the order in which the help lists their commands."""

from __future__ import annotations

from collections.abc import Sequence
from importlib import import_module

from jondel.tui.frame.desk import Desk
from jondel.tui.frame.feature import Feature

FEATURES = (
    "jondel.tui.features.moving:Moving",
    "jondel.tui.features.panes:PaneWidths",
    "jondel.tui.features.to_record:ToRecord",
    "jondel.tui.features.snapshots:Snapshots",
    "jondel.tui.features.stepping:Stepping",
    "jondel.tui.features.watching:Watching",
    "jondel.tui.features.comparing:Comparing",
    "jondel.tui.features.tending:Tending",
    "jondel.tui.features.history:History",
    "jondel.tui.features.noise:Noise",
    "jondel.tui.features.restoring:Restoring",
    "jondel.tui.features.sorting:Sorting",
    "jondel.tui.features.filtering:Filtering",
    "jondel.tui.features.columns:Columns",
    "jondel.tui.features.finding:Finding",
    "jondel.tui.features.tallying:Tallying",
    "jondel.tui.features.copying:Copying",
    "jondel.tui.features.statements:Statements",
    "jondel.tui.features.querying:Querying",
    "jondel.tui.features.composing:Composing",
    "jondel.tui.features.importing:Importing",
    "jondel.tui.features.exporting:Exporting",
    "jondel.tui.features.open_tables:OpenTables",
    "jondel.tui.features.links:Links",
    "jondel.tui.features.large_values:LargeValues",
    "jondel.tui.features.times:Times",
    "jondel.tui.features.cell_editing:CellEditing",
    "jondel.tui.features.records:Records",
    "jondel.tui.features.draft:DraftFeature",
    "jondel.tui.features.verifying:Verifying",
    "jondel.tui.features.plan_editing:PlanEditing",
    "jondel.tui.features.suspicions:Suspicions",
    "jondel.tui.features.application:Application",
)


def load_features(desk: Desk, paths: Sequence[str] = FEATURES) -> list[Feature]:
    """Make the features for one interface, and add their commands to the desk's table."""
    features: list[Feature] = []
    for path in paths:
        module, _, kind = path.partition(":")
        feature: Feature = getattr(import_module(module), kind)(desk)
        desk.commands.add(feature.commands())
        features.append(feature)
    return features
