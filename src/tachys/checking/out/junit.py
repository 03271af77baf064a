"""A check as JUnit XML, for what collects the results of tests: a suite a capture, a test case a need."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from xml.sax.saxutils import escape, quoteattr

from tachys.checking.result import CheckResult, NeedCheck
from tachys.needs.verdicts import Basis, Verdict


def junit_text(results: Sequence[CheckResult], words: Callable[[NeedCheck], str], *, strict: bool = False) -> str:
    """The XML. ``words`` says a need in a sentence; ``strict``: at risk and unseen fail as well."""
    lines = ['<?xml version="1.0" encoding="utf-8"?>', "<testsuites>"]
    for result in results:
        cases = [_case(need, words(need), strict, name in result.bounds.system.accepted.on_paper)
                 for name, need in result.needs.items()]  # fmt: skip
        failed = sum("<failure" in case for case in cases)
        skipped = sum("<skipped" in case for case in cases)
        lines.append(
            f'<testsuite name={quoteattr(_clean(result.capture.file))} tests="{len(cases)}" '
            f'failures="{failed}" errors="0" skipped="{skipped}" time="{result.capture.length / 1e12:.6f}">'
        )
        lines += [*cases, "</testsuite>"]
    return "\n".join([*lines, "</testsuites>"]) + "\n"


def _case(need: NeedCheck, words: str, strict: bool, accepted: bool) -> str:
    failing = need.verdict is not Verdict.MET or (need.basis is Basis.PAPER and not accepted)
    open_ = f'<testcase classname="need" name={quoteattr(need.need.name)}>'
    words = _clean(words)
    if need.verdict is Verdict.MISSED or (strict and failing):
        return f"{open_}<failure type={quoteattr(str(need.verdict))} message={quoteattr(words)}/></testcase>"
    if need.verdict is Verdict.UNSEEN:
        return f"{open_}<skipped message={quoteattr(words)}/></testcase>"
    return f"{open_}<system-out>{escape(words)}</system-out></testcase>"


def _clean(text: str) -> str:
    """Without what XML cannot hold."""
    return "".join(c if c in "\t\n" or " " <= c <= "\ud7ff" or c >= "\ue000" else "?" for c in text)
