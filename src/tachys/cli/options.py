"""Options that several commands share."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, TypeVar, cast

Command = TypeVar("Command", bound=Callable[..., Any])


def with_options(command: Command, bundled: Callable[..., Any], options: Sequence[Callable[[Any], Any]]) -> Command:
    """``bundled``, which calls the command with what these options give, the first of them shown first."""
    made: Any = bundled
    for option in reversed(options):
        made = option(made)
    return cast(Command, made)
