"""The options that say how a model is played, shared by every command that plays one."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from tachys.cli.modelling import BODIES
from tachys.cli.options import Command, with_options
from tachys.cli.parameters import TIME
from tachys.frames import PS

if TYPE_CHECKING:
    from fractions import Fraction

    from tachys.model.system import System
    from tachys.simulation.options import RunOptions


def play_options(command: Command) -> Command:
    """Add the options of how to play."""
    return with_options(command, command, (
        click.option("--bodies", type=click.Choice(BODIES),
                     default="drawn", show_default=True,
                     help="How long each takes: drawn from its cost evenly or with a peak in the middle, or one of"
                          " the single times in the file of --costs."),
        click.option("--phases", type=click.Choice(["together", "drawn"]), default="drawn", show_default=True,
                     help="Where sources without an offset begin."),
        click.option("--arrivals", type=click.Choice(["gap", "mean"]), default="mean", show_default=True,
                     help="Sporadic sources as dense as they may come, or at random with their mean."),
        click.option("--clocks", type=click.Choice(["nominal", "drawn"]), default="nominal", show_default=True,
                     help="Clocks as written, or anywhere within their tolerance."),
        click.option("--seed", type=click.IntRange(0, 2**31), default=1, show_default=True, help="Of all draws."),
    ))  # fmt: skip


def ways_of(system: System, bodies: str, phases: str, arrivals: str, clocks: str, seed: int) -> RunOptions:
    """The ways that the options ask for."""
    from tachys.simulation.options import RunOptions

    if bodies == "measured" and not any(system.measured.values()):
        raise click.UsageError("--bodies measured draws from a file with lines of one time each: name it with --costs")
    return RunOptions(bodies, phases, arrivals, rates=clocks, seed=seed)  # type: ignore[arg-type]


def length_of(time: Fraction) -> int:
    """The option of a length, in whole ps."""
    return int(time * PS)


for_option = click.option(
    "--for", "length", type=TIME, default="1 s", show_default=True, help="How long to play, from time zero."
)
