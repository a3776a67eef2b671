"""A verify run as JUnit XML, which CI servers read.

Format: https://github.com/testmoapp/junitxml, of which every reader knows these elements.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from xml.etree import ElementTree

from jondel.core.reports.verdict_text import verdict_lines
from jondel.core.verify.run import ActionResult

_NOT_IN_XML = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
_SUITE = "jondel verify"


def junit_xml(results: Sequence[ActionResult]) -> str:
    """The whole document."""
    suites = ElementTree.Element("testsuites")
    failed = [result for result in results if result.met is False and result.verdict is not None]
    errors = [result for result in results if result.met is False and result.verdict is None]
    counts = {
        "tests": str(len(results)),
        "failures": str(len(failed)),
        "errors": str(len(errors)),
        "skipped": str(sum(result.met is None for result in results)),
        "time": f"{sum(map(_seconds, results)):.3f}",
    }
    suite = ElementTree.SubElement(suites, "testsuite", {"name": _SUITE, **counts})
    for result in results:
        _case(suite, result)
    ElementTree.indent(suites)
    return ElementTree.tostring(suites, encoding="unicode", xml_declaration=True) + "\n"


def _case(suite: ElementTree.Element, result: ActionResult) -> None:
    turn = f" ({result.turn})" if result.action.repeat > 1 else ""
    case = ElementTree.SubElement(
        suite,
        "testcase",
        {
            "name": _safe(result.action.name + turn),
            "classname": _SUITE,
            "time": f"{_seconds(result):.3f}",
        },
    )
    if result.met is None:
        ElementTree.SubElement(case, "skipped", {"message": "nothing is expected of it"})
    elif not result.met:
        kind = "failure" if result.verdict is not None else "error"
        problem = ElementTree.SubElement(case, kind, {"message": _safe(result.summary)})
        lines = verdict_lines(result.verdict) if result.verdict is not None else ()
        problem.text = _safe("\n".join(lines))
    output = result.step.outcome.output if result.step is not None else ""
    if output:
        ElementTree.SubElement(case, "system-out").text = _safe(output)


def _seconds(result: ActionResult) -> float:
    return result.step.outcome.seconds if result.step is not None else 0.0


def _safe(text: str) -> str:
    """A text without the characters that XML has no form for."""
    return _NOT_IN_XML.sub("�", text)
