"""What the commands do that tend noise rules and the store."""

from __future__ import annotations

from contextlib import ExitStack, closing
from pathlib import Path

from jondel.cli.output import confirmed, counted, say, tell
from jondel.cli.problems import UsageProblem
from jondel.core.browse.display import line
from jondel.core.diff.noise import KINDS, NoiseRules, RuleKind
from jondel.core.engines.registry import location_of, open_database
from jondel.core.errors import TargetError
from jondel.core.files.json_values import dumped
from jondel.core.model.sizes import size_text
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.snapshots.settings import change_store_settings, parse_size
from jondel.core.snapshots.store import Store
from jondel.core.trail.project import Project


def noise(
    target: str, verb: str | None, kind: RuleKind | None, rule: str | None, as_json: bool
) -> None:
    """Show or change the noise rules of a database's project."""
    project = Project(location_of(target))
    rules = project.noise_rules()
    if verb is not None:
        if kind is None or rule is None:
            raise UsageProblem(f"give it as `jondel noise TARGET {verb} {'|'.join(KINDS)} NAME`")

        def change(rules: NoiseRules) -> NoiseRules:
            assert kind is not None
            assert rule is not None
            return rules.with_rule(kind, rule) if verb == "add" else rules.without_rule(kind, rule)

        if change(rules) == rules:
            say(f"{rule}: no such rule" if verb == "remove" else f"{rule}: a rule already")
        else:
            say(f"kept in {project.change_noise_rules(change)}")
        return
    if as_json:
        listed = [{"kind": kind, "name": name} for kind, name in rules.listed()]
        tell(dumped({"file": str(project.file), "rules": listed}))
        return
    for each, name in rules.listed():
        tell(f"{each:<8} {line(name, 100):<40} hides {KINDS[each]}")
    if not rules:
        say(f"no noise rules; they would be kept in {project.file}")


def store(verb: str | None, word: str | None, yes: bool, as_json: bool) -> int:
    """Show what the store holds, or tend it; returns the exit status."""
    kept = Store()
    if verb is None:
        _show_store(kept, as_json)
    elif verb == "check":
        return _check(kept)
    elif verb == "mend":
        return _mend(kept, location_of(word) if word else None, yes)
    elif verb == "empty":
        location = location_of(word) if word else None
        whose = f"the snapshots of {location}" if location else "all snapshots of all databases"
        if confirmed(f"throw {whose} away for good?", yes):
            kept.empty(location)
    elif word is None:
        raise UsageProblem(
            f"give it as `jondel store {verb} {'DIR' if verb == 'move' else 'SIZE'}`"
        )
    elif verb == "largest-table":
        parse_size(word)
        change_store_settings(largest_table=word)
    elif verb == "budget":
        parse_size(word)
        change_store_settings(budget=word)
        removed = Store().keep_within_budget()
        if removed:
            say(f"{len(removed)} snapshots went to keep within {word}")
    else:
        kept.move(Path(word))
    return 0


def _show_store(kept: Store, as_json: bool) -> None:
    usage, size, budget = kept.usage(), kept.size(), kept.settings.budget_bytes
    if as_json:
        listed = [entry._asdict() for entry in usage]
        document = {"folder": str(kept.folder), "size_bytes": size, "budget_bytes": budget}
        document["largest_table_bytes"] = kept.settings.largest_table_bytes
        tell(dumped({**document, "databases": listed}))
        return
    tell(f"{line(str(kept.folder), 1000)}  {size_text(size)} of {size_text(budget)}")
    for entry in usage:
        where = line(entry.location, 1000)
        tell(f"  {entry.snapshots:>5} snapshots  {size_text(entry.size_bytes):>9}  {where}")


def _check(kept: Store) -> int:
    """Read everything the store holds and name what is damaged; 1 where something is."""
    damaged = 0
    for location, snapshot, problem in kept.damage():
        damaged += 1
        say(f"{location}: {snapshot.id} {snapshot.title}: {problem}")
    if not damaged:
        tell("everything is as it was written")
        return 0
    tell(counted(damaged, "damaged snapshot"))
    say(
        "`jondel store mend` finds what it can of their pages anew, also in the live databases, "
        "and lets go of what is lost"
    )
    return 1


def _mend(kept: Store, only: str | None, yes: bool) -> int:
    """Mend what is damaged, and let go of what is lost; 1 where damage stays."""
    stays = 0
    for location in [only] if only else kept.locations():
        shown = line(location, 1000)

        def let_go(lost: list[Snapshot], shown: str = shown) -> bool:
            named = ", ".join(s.title for s in lost[:8]) + (", …" if lost[8:] else "")
            return confirmed(
                f"{shown}: {counted(len(lost), 'snapshot')} cannot be mended ({named}); "
                "let go of them?",
                yes,
            )

        with ExitStack() as stack:
            database = None
            try:
                database = stack.enter_context(closing(open_database(location)))
            except TargetError as error:
                say(f"{error}; nothing is taken from there")
            left = kept.mend(location, database, let_go)
        stays += len(left)
        tell(f"{shown}: " + (counted(len(left), "damaged snapshot") if left else "intact"))
    return 1 if stays else 0
