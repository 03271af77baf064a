"""The options that say what is laid over a model, and the reading of one, shared by every command that takes one."""

from __future__ import annotations

from functools import wraps
from typing import TYPE_CHECKING, Any

import click
from msgspec import Struct

from tachys.cli.completion import keys_of, names_of
from tachys.cli.options import Command, with_options

if TYPE_CHECKING:
    from tachys.model.costs import CostTable
    from tachys.model.system import System
    from tachys.trying.points import Model


BODIES = ("most", "least", "drawn", "triangular", "measured")  # how long they take when a model is played


class Changes(Struct, frozen=True):
    """What a command line lays over a model: variants in the order given, then the costs of a build, then settings."""

    variants: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()
    costs: CostTable | None = None

    def load(self, model: str) -> System:
        """The model of that file with all of it laid over."""
        from tachys.model.loading import ModelText

        return ModelText.load(model).system(self.variants, self.settings, self.costs)

    def points(self, model: str, play: int | None = None) -> Model:
        """The same, to be worked out at many points and, where ``play`` is given, played for so long (ps) at each."""
        from tachys.trying.points import Model

        return Model.load(model, self.variants, self.settings, play, self.costs)


def model_options(command: Command) -> Command:
    """Add --variant, --costs and --set, which the command gets together as ``changes``."""

    @wraps(command)
    def bundled(
        *args: Any, variants: tuple[str, ...], costs: str | None, settings: tuple[str, ...], **more: Any
    ) -> Any:
        return command(*args, changes=Changes(variants, settings, _read(costs)), **more)

    return with_options(command, bundled, (
        click.option("--variant", "variants", multiple=True, metavar="NAME", shell_complete=names_of("variant"),
                     help="Lay a [variant.NAME] of the model over it; several: in the order given."),
        click.option("--costs", metavar="FILE",
                     help="Times of a build, as CSV: isr.rx,4.1 us,4.25 us; over every variant."),
        click.option("--set", "settings", multiple=True, metavar="KEY=VALUE", shell_complete=keys_of,
                     help='Set one key of the model, as in --set isr.rx.cost="12 us"; over all of these.'),
    ))  # fmt: skip


def _read(costs: str | None) -> CostTable | None:
    if costs is None:
        return None
    if costs in BODIES:
        raise click.UsageError(f"--costs names a file; that bodies take {costs} of their cost is --bodies {costs}")
    from tachys.model.costs import read_cost_table

    return read_cost_table(costs)


def titled(system: System, model: str) -> str:
    """The title of a model, or its file, with what is laid over it."""
    return f"{system.title or model}{laid_over(system)}"


def laid_over(system: System) -> str:
    """What is laid over a model, for a heading: ", with variant slow and core.wake = 3 us"; empty where nothing is."""
    *first, last = system.laid_over or ("",)
    return f", with {', '.join(first)}{' and ' * bool(first)}{last}" if last else ""
