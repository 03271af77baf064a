"""The command ``tachys`` and every way in which it ends.

0  all needs met                       1  at least one missed (--strict: or at risk, or unseen)
2  the input or the call is wrong      3  a fault of Tachys itself          130  interrupted
A reader that closes the pipe is no fault and no miss; output that cannot be written (a full disk) ends with 2.
"""

from __future__ import annotations

import errno
import gc
import os
import sys
import tempfile
import traceback
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import Any

import click

from tachys import __version__
from tachys.errors import InputError

FAULT = 3
_COMMANDS = {
    "demo": "write an example and walk through it in five steps",
    "examples": "list the small projects that come with the tool",
    "new": "begin a model: a starter, an example, or from a capture",
    "dividers": "timer settings for a rate, and the rate really got",
    "bounds": "worst cases of a model on paper, and what they are made of",
    "simulate": "play a model from time zero",
    "inspect": "what each line of a capture does: edges, periods, widths",
    "probes": "which line of a capture shows what of a model",
    "check": "hold captures against a model: what is late, and who made it so",
    "explain": "one late answer of a capture taken apart",
    "fit": "correct a model from what captures show",
    "compare": "variants, models or captures side by side",
    "sweep": "a model at every point of a range of its figures",
    "energy": "supply current, who causes it, how long a battery lasts",
    "headroom": "how far each figure may move until something is missed",
    "priorities": "levels and orders with which every need is met",
    "draw": "a timeline of a model or a capture as a picture",
    "report": "one page about a model and its captures",
    "convert": "write a capture in another format",
    "marks": "the C header with which the firmware tells itself what it does",
    "record": "marks from the board, as they come, into a capture",
    "completion": "names and options at the press of a key, for your shell",
    "words": "what a word, a verdict or a finding's code means",
    "schema": "the JSON Schema of model files, for an editor",
}
_GARBAGE = 50_000  # new things after which old ones are looked through: what commands load as they go stays, too
_OF_A_STREAM = (errno.EPIPE, errno.ENOSPC, errno.EIO, errno.EBADF, errno.EINVAL, errno.EFBIG, errno.EDQUOT)


class _Unwritten(Exception):
    """Standard output cannot be written to: its reader has gone, or a disk is full."""


def _warm(ctx: click.Context, wanted: bool) -> None:
    if not wanted or ctx.resilient_parsing:
        return
    from tachys.warming import warm

    click.echo("compiling, once after each install: about a quarter of a minute", err=True)
    for part in warm():
        click.echo(f"compiled: {part}")
    ctx.exit()


def _tell_version(ctx: click.Context, wanted: bool) -> None:
    if not wanted or ctx.resilient_parsing:
        return
    click.echo(f"tachys, version {__version__}")
    if any(word in ("-v", "--verbose") for word in sys.argv[1:]):
        from tachys.cli.versions import lines

        for line in lines():
            click.echo(line)
    ctx.exit()


@cache
def calls() -> dict[str, list[str]]:
    """Two calls of each command, for the end of its help."""
    from tachys.files import titled_lines

    found: dict[str, list[str]] = {}
    for name, line in titled_lines(Path(__file__).with_name("calls.txt")):
        found.setdefault(name, []).append(line)
    return found


def _with_calls(name: str, command: click.Command) -> click.Command:
    """The command, whose help ends with two calls, and which takes --color."""
    if command.epilog is None:
        command.epilog = "\n".join(("\b", "For instance:", *(f"  {call}" for call in calls()[name])))
        command.params.append(
            click.Option(
                ["--color"], type=click.Choice(["auto", "always", "never"]), expose_value=False, is_eager=True,
                callback=_set_color, help="Colours; auto: where somebody looks.",
            )
        )  # fmt: skip
    return command


def _set_color(_: click.Context, __: click.Parameter, wanted: str | None) -> None:
    from tachys.cli.output import set_color

    set_color({None: None, "auto": None, "always": True, "never": False}[wanted])


class _Commands(click.Group):
    """The commands, each loaded when asked for; an output that cannot be written is told apart from other faults."""

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """The command of that name."""
        if cmd_name not in _COMMANDS:
            return None
        command = _with_calls(cmd_name, getattr(import_module(f"tachys.cli.{cmd_name}"), f"{cmd_name}_command"))
        if not gc.isenabled():
            gc.freeze()
            gc.set_threshold(_GARBAGE)
            gc.enable()
        return command

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Their names, in the order of the work."""
        return list(_COMMANDS)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """A line each."""
        with formatter.section("Commands"):
            formatter.write_dl(list(_COMMANDS.items()))

    def invoke(self, ctx: click.Context) -> Any:
        """Run a command, and write all that it has said."""
        try:
            status = super().invoke(ctx)
            if sys.stdout is not None:
                sys.stdout.flush()
        except OSError as error:
            if not isinstance(error, BrokenPipeError) and error.errno not in _OF_A_STREAM:
                raise
            raise _Unwritten(error) from None
        return status


@click.group(
    cls=_Commands,
    commands=[click.Command(name) for name in _COMMANDS],
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)
@click.option("--version", is_flag=True, is_eager=True, expose_value=False,
              callback=lambda ctx, _, value: _tell_version(ctx, value),
              help="The version; with -v also what it runs on, and whether all is compiled.")  # fmt: skip
@click.option("-v", "--verbose", is_flag=True, expose_value=False, hidden=True)
@click.option("--warm", is_flag=True, is_eager=True, expose_value=False,
              callback=lambda ctx, _, value: _warm(ctx, value),
              help="Compile everything once, a quarter of a minute, so that no later command waits.")  # fmt: skip
def tachys() -> None:
    """Will every interrupt meet its time limit, and does the board agree?

    Write a model of what interrupts your chip, see its worst cases on paper, and hold a capture from the board
    against it. Begin with: tachys demo
    """


def _compile_behind() -> None:
    """Have compiled what would have made this command faster, for the next one."""
    compiled = sys.modules.get("tachys.compiled")
    if compiled is not None and compiled.is_missed():
        from tachys import warming

        warming.begin()


def main() -> None:
    """Run the command and end the process as the table above says."""
    from tachys.cli.output import prepare_streams

    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")  # it looks through all that is installed for some
    prepare_streams()
    try:
        status = tachys.main(standalone_mode=False) or 0
        _compile_behind()
        sys.exit(status)
    except click.exceptions.NoArgsIsHelpError as shown:
        click.echo(shown.format_message())
        sys.exit(2)
    except click.ClickException as error:
        from tachys.cli.output import plain

        where = error.ctx.command_path if isinstance(error, click.UsageError) and error.ctx else "tachys"
        click.echo(plain(f"{where}: {error.format_message()} (see {where} --help)").replace("\n", " "), err=True)
        sys.exit(2)
    except (click.Abort, KeyboardInterrupt):
        click.echo("stopped", err=True)
        sys.exit(130)
    except InputError as error:
        from tachys.cli.output import plain

        for problem in error.problems:
            click.echo(plain(str(problem)).replace("\n", "\\n"), err=True)
        sys.exit(InputError.exit_status)
    except _Unwritten as ended:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())  # what is left is written nowhere
        cause = ended.args[0]
        if isinstance(cause, BrokenPipeError):
            sys.exit(0)
        click.echo(f"the output cannot be written: {cause.strerror}", err=True)
        sys.exit(2)
    except Exception as error:
        with tempfile.NamedTemporaryFile("w", prefix="tachys-fault-", suffix=".txt", delete=False) as details:
            traceback.print_exc(file=details)
        summary = f"{type(error).__name__}: {error}".splitlines()[0][:200]
        click.echo(f"a fault of Tachys itself ({summary}); the details are in {details.name}", err=True)
        sys.exit(FAULT)
