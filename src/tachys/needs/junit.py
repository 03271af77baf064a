"""Verdicts as JUnit XML, for what collects the results of tests: a suite a model or capture, a test case a need."""

from __future__ import annotations

from collections.abc import Sequence
from xml.sax.saxutils import escape, quoteattr

from msgspec import Struct

from tachys.needs.verdicts import Verdict


class Case(Struct, frozen=True):
    """A need with its verdict, said in a sentence; ``fails`` it does where it is missed, or what is strict says so."""

    name: str
    verdict: Verdict
    words: str
    fails: bool


class Suite(Struct, frozen=True):
    """What the needs were held against, and how long (s) that is; 0 on paper."""

    name: str
    seconds: float
    cases: tuple[Case, ...]


def junit_text(suites: Sequence[Suite]) -> str:
    """The XML."""
    lines = ['<?xml version="1.0" encoding="utf-8"?>', "<testsuites>"]
    for suite in suites:
        cases = [_case(case) for case in suite.cases]
        failed = sum("<failure" in case for case in cases)
        skipped = sum("<skipped" in case for case in cases)
        lines.append(
            f'<testsuite name={quoteattr(_clean(suite.name))} tests="{len(cases)}" '
            f'failures="{failed}" errors="0" skipped="{skipped}" time="{suite.seconds:.6f}">'
        )
        lines += [*cases, "</testsuite>"]
    return "\n".join([*lines, "</testsuites>"]) + "\n"


def _case(case: Case) -> str:
    open_ = f'<testcase classname="need" name={quoteattr(case.name)}>'
    words = _clean(case.words)
    if case.fails:
        return f"{open_}<failure type={quoteattr(str(case.verdict))} message={quoteattr(words)}/></testcase>"
    if case.verdict is Verdict.UNSEEN:
        return f"{open_}<skipped message={quoteattr(words)}/></testcase>"
    return f"{open_}<system-out>{escape(words)}</system-out></testcase>"


def _clean(text: str) -> str:
    """Without what XML cannot hold."""
    return "".join(c if c in "\t\n" or " " <= c <= "\ud7ff" or c >= "\ue000" else "?" for c in text)
