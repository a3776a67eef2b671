"""The command that runs a project's actions and checks what they write."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from contextlib import closing, suppress
from pathlib import Path

from jondel.cli.making_room import make_room
from jondel.cli.output import counted, say, tell, whole_document
from jondel.cli.target import Target, opened
from jondel.core.errors import Cancelled, JondelError, ProjectInvalid, TargetNotFound
from jondel.core.files.json_values import dumped
from jondel.core.files.replacement import replace_text
from jondel.core.findings.finding import Finding
from jondel.core.reports.masked import Masks, masked_columns
from jondel.core.reports.verdict_text import result_lines
from jondel.core.trail.project import FILE_NAME, Project
from jondel.core.trail.trail import Trail
from jondel.core.verify.actions import Action
from jondel.core.verify.plan_file import Plan, PlanFile, plan_in
from jondel.core.verify.recording import Place
from jondel.core.verify.run import ActionResult, PlanRun, Surroundings, accepted, forget_copy

NOT_MET = 3
"""The exit status where an expectation is not met, or an action failed."""


def verify(
    file: str | None,
    database: str | None,
    only: Sequence[str],
    junit: str | None,
    report: str | None,
    masked: Sequence[str],
    accept: bool,
    as_json: bool,
) -> int:
    """Run a project's actions and check what each wrote; returns the exit status."""
    path = _plan_path(file)
    plan = plan_in(path)
    actions = _wanted(plan, only)
    words = database or _database_of(plan)
    form = report_form(report) if report else ""
    with opened(words, may_be_missing=False) as given:
        project = Project(given.location, file=path)
        around = Surroundings.of(project, os.environ, _ask if sys.stdin.isatty() else None)
        place = Place(given.trail, given.database, words)
        masks = Masks(masked_columns(masked, [given.database.schema()]))
        results: list[ActionResult] = []
        for result in PlanRun(plan, place, around, keeps_copies=accept).results(actions):
            results.append(result)
            if not as_json:
                for line in result_lines(masks.result(result)):
                    tell(line)
        if accept:
            _accept(given, project, results)
        make_room(given.trail)
        told = [masks.result(result) for result in results]
        if as_json:
            from jondel.core.reports.verify_json import run_json

            with whole_document() as out:
                out.write(dumped(run_json(told)) + "\n")
        if junit:
            from jondel.core.reports.junit import junit_xml

            write_text(junit, junit_xml(told))
        if report and form:
            from jondel.core.reports.verify_report import verify_report

            found = [_findings_of(result, given, project, masks) for result in results]
            write_text(report, verify_report(form, given.name, told, found))
    return _closing(results, words, as_json=as_json, accept=accept)


def _closing(results: Sequence[ActionResult], words: str, *, as_json: bool, accept: bool) -> int:
    """Say how it went, and where to look; returns the exit status."""
    failed = [result for result in results if result.met is False]
    met, without = (sum(r.met is value for r in results) for value in (True, None))
    if not as_json:
        parts = [f"{met} met"]
        parts += [f"{len(failed)} not met"] if failed else []
        parts += [f"{without} without an expectation"] if without else []
        tell(f"{counted(len(results), 'run')}: {', '.join(parts)}")
    if without and not accept:
        say("`jondel verify --accept` makes expectations of what was seen")
    for target in dict.fromkeys(result.target for result in failed):
        steps = [r.step.after.id for r in failed if r.target == target and r.step is not None]
        if steps:
            shown = words if target == _location(words) else target
            say(f"look at {', '.join(steps)}: jondel {shown}")
    if accept:
        return 1 if any(result.failure for result in results) else 0
    return NOT_MET if failed else 0


def _location(words: str) -> str:
    from jondel.core.engines.registry import location_of

    return location_of(words)


def _plan_path(file: str | None) -> Path:
    if file is not None:
        path = Path(file)
        path = path / FILE_NAME if path.is_dir() else path
        if not path.is_file():
            raise TargetNotFound(f"{path}: there is no such file; name the project's {FILE_NAME}")
        return path.absolute()
    here = Path.cwd()
    for folder in (here, *here.parents):
        if (folder / FILE_NAME).is_file():
            return folder / FILE_NAME
    raise TargetNotFound(
        f"there is no {FILE_NAME} here or in a folder above; make one with [[actions]] in it "
        "(docs/verify.md says how), or record an expectation: "
        "`jondel record TARGET --expect NAME -- COMMAND`"
    )


def _database_of(plan: Plan) -> str:
    if not plan.database:
        raise ProjectInvalid(
            f'{plan.path}: says of no database; write [verify] and database = "app.db" under it, '
            "or give --database"
        )
    if "://" in plan.database:
        return plan.database
    return str(plan.path.parent / Path(plan.database).expanduser())


def _wanted(plan: Plan, only: Sequence[str]) -> list[Action]:
    if not plan.actions:
        raise ProjectInvalid(f"{plan.path}: has no actions; write some under [[actions]]")
    for name in only:
        if plan.action(name) is None:
            import difflib

            names = [action.name for action in plan.actions]
            near = difflib.get_close_matches(name, names, 1, 0.4)
            hint = f"did you mean {near[0]!r}?" if near else f"there are: {', '.join(names)}"
            raise ProjectInvalid(f"{plan.path}: there is no action {name!r}; {hint}")
    return [action for action in plan.actions if not only or action.name in only]


def _ask(instruction: str) -> None:
    """Have whoever sits there do something, and wait until that is done."""
    say(f"by hand: {instruction} — then press Enter (Ctrl+D stops)")
    if not sys.stdin.readline():
        raise Cancelled("stopped")


def _accept(given: Target, project: Project, results: Sequence[ActionResult]) -> None:
    """Write down what was seen as what is expected from now on."""
    file = PlanFile(project)
    names = dict.fromkeys(result.action.name for result in results)
    for name in names:
        runs = [result for result in results if result.action.name == name]
        with closing(Trail(runs[0].target)) as trail:
            made = accepted(trail, project, runs)
        for run in runs:
            if run.target != given.location:
                forget_copy(Path(run.target))
        if made is None:
            say(f"{name}: it failed, so nothing is accepted")
            continue
        path = file.keep_expectation(made.expectation)
        say(f"{name}: accepted, in {path}")
        for words in made.restless:
            say(f"{name}: {words}")


def report_form(report: str) -> str:
    """The form of a report, by the name of its file. Raises ``JondelError``."""
    form = {".html": "html", ".htm": "html", ".md": "markdown", ".json": "json"}.get(
        Path(report).suffix.lower()
    )
    if form is None:
        raise JondelError(f"{report}: name it .html, .md or .json, for what it is to be")
    return form


def _findings_of(
    result: ActionResult, given: Target, project: Project, masks: Masks
) -> list[Finding]:
    """What is suspicious in what an action wrote; of a copy nothing is known any more."""
    from jondel.core.findings.looking import findings_of_recorded_step

    step, changes = result.step, result.changes
    if step is None or changes is None or result.target != given.location:
        return []
    found = findings_of_recorded_step(given.trail, step.before, step.after, project)
    return [masks.finding(finding, changes) for finding in found]


def write_text(path: str, text: str) -> None:
    """Write a file whole or not at all."""
    try:
        with suppress(FileExistsError):
            Path(path).absolute().parent.mkdir(parents=True, exist_ok=True)
        replace_text(Path(path).absolute(), text, mode=0o666)
    except OSError as error:
        raise JondelError(f"{path}: cannot be written ({error.strerror})") from error
