"""The masthead: which database, and whether one sees it live or as it was."""

from __future__ import annotations

from pathlib import Path

from jondel.core.browse.display import grouped, line
from jondel.core.trail.trail import Step
from jondel.tui.early_look import Identity
from jondel.tui.widgets.bands import Band

_NAME_CHARACTERS, _TITLE_CHARACTERS = 60, 40


class Masthead(Band):
    """The topmost line."""

    def show_state(
        self,
        identity: Identity | None,
        location: str,
        step: Step | None,
        *,
        live_is_readable: bool,
        watching: str,
        busy_with: str,
        drafted: int = 0,
        read_only: bool = False,
    ) -> None:
        """Show the state; ``step`` is the selected one, None at now.

        ``drafted`` counts what is edited and not written.
        """
        name = identity.name if identity else Path(location).name
        left = [(" Jondel ", "strong"), (f" {line(name, _NAME_CHARACTERS)} ", "plain")]
        if identity:
            left.append((f" {identity.engine}  ", "dim"))
        if step is not None:
            title = line(step.after.title, _TITLE_CHARACTERS)
            title = "" if step.after.title == step.after.id else f" · {title}"
            left.append((f" not live · as of {step.after.id}{title} ", "flag"))
        if not live_is_readable:
            words = " live: cannot be read now " if step else " cannot be read now "
            left.append((words, "dim" if step else "flag"))
        elif step is None:
            left.append(("live · read-only" if read_only else "live", "dim"))
        if drafted:
            left.append((f"  * {grouped(drafted)} not written, W writes ", "draft"))
        right = [(f"{busy_with} … Esc stops it ", "plain")] if busy_with else []
        if watching:
            right.append((f" {watching} ", "watch"))
        self.show(left, right)
