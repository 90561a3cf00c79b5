"""Proofs as JUnit XML, which build servers read: a test case for each query and table."""

import re
from xml.etree import ElementTree

from slabrow.core.values.one_line import one_line
from slabrow.show.words import plural
from slabrow.work.proving.proof import Proof, ProveResult


def junit(result: ProveResult) -> str:
    """Queries without a limit pass; those that the server refuses are errors; a limit that was not checked failed."""
    errors = [each for each in result.unproven if each.is_error]
    unchecked = result.unchecked
    suite = ElementTree.Element(
        "testsuite",
        name="slabrow prove",
        tests=str(len(result.proofs) + len(errors) + len(unchecked)),
        failures=str(sum(proof.is_ok is False for proof in result.proofs) + len(unchecked)),
        errors=str(len(errors)),
        skipped="0",
    )
    for proof in result.proofs:
        case = _case(suite, proof.query.name, proof.table, proof.execution_ms)
        if proof.is_ok is False:
            failure = ElementTree.SubElement(case, "failure", message=_text(_message(proof)), type="limit")
            failure.text = "\n".join(_text(f"{each.text}: {each.fragment}") for each in proof.reasons)
    for each in errors:
        case = _case(suite, each.query.name, "", None)
        ElementTree.SubElement(case, "error", message=_text(each.reason), type="refused")
    for each in unchecked:
        case = _case(suite, each.query.name, "", None)
        message = f"its limit could not be checked: it {each.reason}"
        ElementTree.SubElement(case, "failure", message=_text(message), type="unchecked")
    ElementTree.indent(suite)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(suite, encoding="unicode") + "\n"


def _text(text: str) -> str:
    """Without the characters that XML 1.0 has no place for (2.2), and on one line where it is an attribute."""
    return _NO_XML.sub("\ufffd", one_line(text))


_NO_XML = re.compile("[\ufffe\uffff]")


def _case(suite: ElementTree.Element, name: str, table: str, took_ms: float | None) -> ElementTree.Element:
    time = f"{(took_ms or 0.0) / 1_000:.6f}"
    return ElementTree.SubElement(suite, "testcase", name=_text(name), classname=_text(table) or "slabrow", time=time)


def _message(proof: Proof) -> str:
    wanted = f"wanted {proof.limit}" if proof.limit is not None else f"wanted to be decided by {proof.query.decided}"
    return f"touches {plural(proof.touched, 'partition')} of {proof.total}, {wanted}"
