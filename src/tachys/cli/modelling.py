"""The options that say what is laid over a model, and the reading of one, shared by every command that takes one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import wraps
from typing import TYPE_CHECKING, Any, TypeVar, cast

import click

if TYPE_CHECKING:
    from tachys.model.system import System

Command = TypeVar("Command", bound=Callable[..., Any])


@dataclass(frozen=True, slots=True)
class Changes:
    """What a command line lays over a model: variants in the order given, then settings."""

    variants: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()

    def load(self, model: str) -> System:
        """The model of that file with all of it laid over."""
        from tachys.model.loading import load_model

        return load_model(model, self.variants, self.settings)


def model_options(command: Command) -> Command:
    """Add --variant and --set, which the command gets together as ``changes``."""

    @wraps(command)
    def bundled(*args: Any, variants: tuple[str, ...], settings: tuple[str, ...], **more: Any) -> Any:
        return command(*args, changes=Changes(variants, settings), **more)

    made: Any = bundled
    for option in reversed(
        (
            click.option("--variant", "variants", multiple=True, metavar="NAME",
                         help="Lay a [variant.NAME] of the model over it; several: in the order given."),
            click.option("--set", "settings", multiple=True, metavar="KEY=VALUE",
                         help='Set one key of the model, as in --set isr.rx.cost="12 us"; over every variant.'),
        )
    ):  # fmt: skip
        made = option(made)
    return cast(Command, made)


def titled(system: System, model: str) -> str:
    """The title of a model, or its file, with what is laid over it."""
    return f"{system.title or model}{laid_over(system)}"


def laid_over(system: System) -> str:
    """What is laid over a model, for a heading: ", with variant slow and core.wake = 3 us"; empty where nothing is."""
    *first, last = system.laid_over or ("",)
    return f", with {', '.join(first)}{' and ' * bool(first)}{last}" if last else ""
