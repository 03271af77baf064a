"""The options that say who does the work, shared by every command that has much of it."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any

import click

from tachys.cli.options import Command, with_options

_PROCESSES = click.option(
    "--workers", "count", type=click.IntRange(1, 256), help="How many work here; without it as many as there are cores."
)
_CLUSTER = click.option(
    "--cluster", metavar="ADDRESS", help="Work on a Dask cluster, such as tcp://host:8786; local:2 starts one here."
)


def processes_option(command: Command) -> Command:
    """Add --workers, which the command gets as ``workers``."""
    return _with(command, _PROCESSES)


def workers_options(command: Command) -> Command:
    """Add --workers and --cluster, which the command gets together as ``workers``."""
    return _with(command, _PROCESSES, _CLUSTER)


def _with(command: Command, *options: Callable[[Any], Any]) -> Command:
    @wraps(command)
    def bundled(*args: Any, count: int | None, cluster: str | None = None, **more: Any) -> Any:
        from tachys.spreading import Workers

        if count is not None and cluster is not None:
            raise click.UsageError("--workers are of this machine, --cluster has its own: give one of them")
        return command(*args, workers=Workers(count, cluster or ""), **more)

    return with_options(command, bundled, options)
