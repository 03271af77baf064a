"""``tachys completion``: what a shell runs to complete commands, options and names of the model."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem

VARIABLE = "_TACHYS_COMPLETE"
LARGEST = 1 << 20
_KINDS = ("source", "unit", "isr", "step", "flag", "buffer", "pin", "need")


@click.command("completion")
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def completion_command(shell: str) -> int:
    """Print what makes SHELL complete commands, options, files, and the names in a model.

    \b
    bash: put eval "$(tachys completion bash)" into ~/.bashrc
    zsh:  put eval "$(tachys completion zsh)" into ~/.zshrc
    fish: tachys completion fish > ~/.config/fish/completions/tachys.fish
    """
    from click.shell_completion import get_completion_class

    from tachys.cli.main import tachys

    made = get_completion_class(shell)
    assert made is not None
    click.echo(made(tachys, {}, "tachys", VARIABLE).source())
    return 0


Complete = Callable[[click.Context, click.Parameter, str], "list[CompletionItem]"]


def names_of(*kinds: str) -> Complete:
    """Completes names of the model on the line: "isr.rx", "rx"; of these kinds of tables, or of all that have one."""

    def complete(ctx: click.Context, _: click.Parameter, begun: str) -> list[CompletionItem]:
        found = []
        for kind in kinds or _KINDS:
            for name in _tables(_model(ctx), kind):
                found += [name] if kind in ("need", "variant") else [f"{kind}.{name}", name]
        return _beginning(found, begun)

    return complete


def keys_of(ctx: click.Context, _: click.Parameter, begun: str) -> list[CompletionItem]:
    """Completes keys of the model that have a value, as --set takes them."""
    return _beginning(list(_keys(_model(ctx), "")), begun)


def _beginning(names: list[str], begun: str) -> list[CompletionItem]:
    from click.shell_completion import CompletionItem

    return [CompletionItem(name) for name in dict.fromkeys(names) if name.startswith(begun)]


def _model(ctx: click.Context) -> dict[str, Any]:
    import tomllib

    known = ctx.params.get("model") or ctx.params.get("models") or ()
    words = [*([known] if isinstance(known, str) else known), *ctx.args]  # what is not finished is not parsed yet
    for file in (Path(word) for word in words if word.endswith(".toml")):
        with suppress(OSError, ValueError):
            if file.stat().st_size < LARGEST:
                return tomllib.loads(file.read_text("utf-8"))
    return {}


def _tables(model: dict[str, Any], kind: str) -> list[str]:
    found = model.get(kind)
    return list(found) if isinstance(found, dict) else []


def _keys(table: dict[str, Any], path: str) -> Iterator[str]:
    for key, value in table.items():
        if key == "variant" and not path:
            continue
        if isinstance(value, dict):
            yield from _keys(value, f"{path}{key}.")
        else:
            yield f"{path}{key}="
