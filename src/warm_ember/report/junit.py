"""A gate's result as JUnit XML, which build services read."""

from __future__ import annotations

import re
from pathlib import Path
from xml.etree import ElementTree

from warm_ember.errors import BadFileError
from warm_ember.store.new_file import write_new
from warm_ember.tuning.gate import GateResult, Outcome

_NOT_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def junit_xml(result: GateResult) -> bytes:
    """Return one test suite with a case for each check.

    Parameters
    ----------
    result
        The checks. What is undecided is skipped, and failed where the limits are strict.

    Notes
    -----
    The same result gives the same bytes: no moment stands in it. Characters that XML has no place for become dots.
    """
    failing = {Outcome.FAIL, Outcome.UNDECIDED} if result.strict else {Outcome.FAIL}
    failures = sum(check.outcome in failing for check in result.checks)
    skipped = sum(check.outcome is Outcome.UNDECIDED for check in result.checks) if not result.strict else 0
    name = _plain(f"power of {result.capture}")
    counts = {"tests": str(len(result.checks)), "failures": str(failures), "errors": "0", "skipped": str(skipped)}
    suites = ElementTree.Element("testsuites", {"name": "warm-ember", **counts})
    suite = ElementTree.SubElement(suites, "testsuite", {"name": name, **counts})
    for check in result.checks:
        attributes = {"classname": name, "name": _plain(check.name), "time": "0"}
        case = ElementTree.SubElement(suite, "testcase", attributes)
        text = _plain(check.text)
        if check.outcome in failing:
            ElementTree.SubElement(case, "failure", {"message": text, "type": check.outcome.value}).text = text
        elif check.outcome is Outcome.UNDECIDED:
            ElementTree.SubElement(case, "skipped", {"message": text})
        else:
            ElementTree.SubElement(case, "system-out").text = text
    ElementTree.indent(suites)
    return bytes(ElementTree.tostring(suites, encoding="utf-8", xml_declaration=True)) + b"\n"


def write_junit(found: GateResult, path: Path) -> None:
    """Write a gate's result as JUnit XML.

    Raises
    ------
    BadFileError
        If it cannot be written.
    """
    try:
        write_new(path, junit_xml(found))
    except OSError as error:
        raise BadFileError(path, f"cannot be written: {error.strerror or error}") from error


def _plain(text: str) -> str:
    return _NOT_XML.sub("·", text)
