"""The documentation as it runs: its files, its commands with what they print, its programs.

python tests/documents.py        writes anew what the commands print, docs/commands.md and docs/words.md
"""

import contextlib
import io
import re
import shlex
import sys
import tempfile
from functools import cache
from pathlib import Path
from unittest import mock

import click

from tachys.cli.main import main
from tachys.cli.main import tachys as group
from tachys.demo.project import write_project
from tachys.glossary import page
from tachys.model import keys

ROOT = Path(__file__).parent.parent
DOCS = ROOT / "docs"
TOLD = ("tutorial.md", "recipes.md")  # with blocks of commands and what they print
_BLOCK = re.compile(r"^```(\w+)(?: ([\w./-]+))?\n(.*?)^```$", re.MULTILINE | re.DOTALL)


def ran(folder, line):
    """What a command line prints, in this process; ``>`` and ``>>`` put that into a file."""
    words = shlex.split(line)
    target = next((each for each in (">>", ">") if each in words), None)
    into = words[words.index(target) + 1] if target else None
    words = words[: words.index(target)] if target else words
    if words[0] == "cat":
        printed = "".join((folder / name).read_text() for name in words[1:])
    else:
        assert words[0] == "tachys", line
        out = io.StringIO()
        with (
            contextlib.chdir(folder), contextlib.redirect_stdout(out), contextlib.redirect_stderr(out),
            mock.patch.object(sys, "argv", words), mock.patch.dict("os.environ", {"COLUMNS": "100"}),
            contextlib.suppress(SystemExit),
        ):  # fmt: skip
            main()
        printed = "".join(each for each in out.getvalue().splitlines(True) if "compiling" not in each)
    if into:
        with (folder / into).open("a" if target == ">>" else "w") as stream:
            stream.write(printed)
        return ""
    return "\n".join(each.rstrip() for each in printed.rstrip().splitlines())


def told_anew(text, folder):
    """The text of a page with all that its commands print, run in that folder, where its files are written."""

    def anew(match):
        kind, name, body = match.groups()
        if name and kind in ("toml", "csv"):
            (folder / name).write_text(body)
        if kind != "console":
            return match.group()
        parts = []
        for line in (each for each in body.splitlines() if each.startswith("$ ")):
            printed = ran(folder, line.removeprefix("$ "))
            parts.append(f"{line}\n{printed}\n" if printed else f"{line}\n")
        return "```console\n" + "\n".join(parts) + "```"

    return _BLOCK.sub(anew, text)


def blocks(text, wanted):
    """The bodies of all blocks of a kind."""
    return [body for kind, _, body in _BLOCK.findall(text) if kind == wanted]


def commands_page():
    """docs/commands.md: the help of every command."""
    lines = ["# Commands", "",
             "What `tachys COMMAND --help` prints. The status is 0 when all needs are met, 1 when one is missed (with `--strict` also at",
             "risk or unseen), 2 when the input is wrong, 130 when it was interrupted.", ""]  # fmt: skip
    with click.Context(group, info_name="tachys", **group.context_settings) as top:
        for name in group.list_commands(top):
            command = group.get_command(top, name)
            with click.Context(
                command, info_name=name, parent=top, max_content_width=100, terminal_width=100
            ) as context:
                lines += [f"## {name}", "", "```", command.get_help(context), "```", ""]
    return "\n".join(lines)


@contextlib.contextmanager
def project():
    """A folder with the files of the demo in it."""
    with tempfile.TemporaryDirectory() as folder:
        for name, content in _demo().items():
            Path(folder, name).write_bytes(content)
        yield Path(folder)


@cache
def _demo():
    with tempfile.TemporaryDirectory() as folder:
        return {path.name: path.read_bytes() for path in write_project(Path(folder))}


def rewrite():
    """All of it."""
    for name in TOLD:
        path = DOCS / name
        with project() as folder:
            path.write_text(told_anew(path.read_text(), folder))
    (DOCS / "commands.md").write_text(commands_page())
    (DOCS / "words.md").write_text(page())
    (DOCS / "keys.md").write_text(keys.page())


if __name__ == "__main__":
    rewrite()
