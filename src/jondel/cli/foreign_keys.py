"""Whether foreign keys are enforced for what writes."""

from __future__ import annotations

from jondel.core.trail.project import Project


def enforces_foreign_keys(location: str, wanted: str | None) -> bool:
    """As the project has it; ``wanted`` is ``on`` or ``off`` where that is to be kept with it."""
    project = Project(location)
    if wanted is not None:
        project.enforce_foreign_keys(wanted == "on")
    return project.enforces_foreign_keys()
