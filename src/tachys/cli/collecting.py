"""The options of a check that nobody looks at: results for what collects tests, and what got worse since earlier."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click
from msgspec import Struct

from tachys.cli.options import Command, with_options

Judged = TypeVar("Judged", "NeedBounds", "NeedSeen", "NeedCheck")

if TYPE_CHECKING:
    from tachys.checking.result import NeedCheck
    from tachys.needs.junit import Suite
    from tachys.needs.kinds import Need, NeedBounds
    from tachys.simulation.result import NeedSeen


def suite_of(
    name: str, seconds: float, needs: Mapping[str, Judged], words: Callable[[Judged], str],
    fails: Callable[[Judged], bool],
) -> Suite:  # fmt: skip
    """What needs came to, held against something of that name."""
    from tachys.needs.junit import Case, Suite

    cases = (Case(need, each.verdict, words(each), fails(each)) for need, each in needs.items())
    return Suite(name, seconds, tuple(cases))


class Collected(Struct, frozen=True):
    """Where results go, and with what they are compared."""

    junit: str | None
    baseline: str | None

    def before(self, kind: str) -> dict[str, dict[str, Any]] | None:
        """What was earlier, of a "check", "bounds" or "simulation"."""
        if self.baseline is None:
            return None
        from tachys.needs.baseline import read_baseline

        return read_baseline(self.baseline, kind)

    def worse(
        self, before: dict[str, dict[str, Any]] | None, now: Iterable[dict[str, Any]], needs: Iterable[Need], *,
        told: bool,
    ) -> bool:  # fmt: skip
        """Say what got worse, where there is something to compare with; whether anything did."""
        if before is None:
            return False
        from tachys.cli.output import heading, say
        from tachys.needs.baseline import worse_than

        named = {need.name: need for need in needs}
        worse = [line for each in now for line in worse_than(before, each, named)]
        if told:
            heading("Since the baseline")
            say(*[f"  worse: {line}" for line in worse] or ["  nothing got worse"], "")
        return bool(worse)

    def write(self, suites: Callable[[], Sequence[Suite]]) -> None:
        """Write the results, if they are wanted."""
        if self.junit is None:
            return
        from tachys.files import write_whole
        from tachys.needs.junit import junit_text

        write_whole(Path(self.junit), junit_text(suites()))


def collecting_options(command: Command) -> Command:
    """Add --junit and --baseline, which the command gets together as ``collected``."""

    @wraps(command)
    def bundled(*args: Any, junit: str | None, baseline: str | None, **more: Any) -> Any:
        return command(*args, collected=Collected(junit, baseline), **more)

    return with_options(command, bundled, (
        click.option("--junit", type=click.Path(), metavar="FILE",
                     help="Write each need as a test case (JUnit XML)."),
        click.option("--baseline", type=click.Path(), metavar="FILE",
                     help="Say what got worse since the JSON that this printed earlier."),
    ))  # fmt: skip
