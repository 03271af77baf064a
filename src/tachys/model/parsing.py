"""TOML as people write it: the tables of a model, or what is wrong in the words of who wrote it."""

from __future__ import annotations

import re
import tomllib
from typing import Any

from tachys.errors import InputError, input_error

_PLACE = re.compile(r"\s*\(at (?:line (\d+), column (\d+)|end of document)\)$")
_BARE = re.compile(r"""\s*[\w."'-]+\s*=\s*([^\s"'\[{#][^#\n]*?)\s*(?:#.*)?$""")
_QUANTITY = re.compile(r"[+-]?\d[\d.,_]*\s*[A-Za-zµμ%@]+")
_DATE = re.compile(r"\d{1,4}-\d{1,2}-\d{1,2}\b")
_SWITCHES = {"yes": "true", "on": "true", "no": "false", "off": "false", "True": "true", "False": "false"}
_CAPTURE = re.compile(r"\s*\$(?:date|version|timescale|comment|scope|var)\b|[^=\n]*[,;\t][^=\n]*\n[-+\d.eE]+[,;\t]")


def parse_toml(text: str, file: str) -> dict[str, Any]:
    """The tables of a model.

    Raises:
        InputError: with the line, what is wrong there, and what would be right.
    """
    try:
        return tomllib.loads(text)
    except RecursionError:
        raise input_error(file, "nested too deeply", "mend the TOML there") from None
    except ValueError as error:  # the reader's own error, or of a date or a number that nobody can mean
        raise _told(error, text, file) from None


def _told(error: ValueError, text: str, file: str) -> InputError:
    if _CAPTURE.match(text):
        return input_error(
            file, "this is a capture, and a model is due", "the model goes first: tachys check MODEL CAPTURE"
        )
    match = _PLACE.search(str(error))
    line = int(match.group(1)) if match and match.group(1) else text.count("\n") + 1
    written = text.split("\n")[line - 1] if line <= text.count("\n") + 1 else ""
    wrong, mend = _in_words(_PLACE.sub("", str(error)), written)
    return input_error(file, wrong, mend, line=line)


def _in_words(fault: str, written: str) -> tuple[str, str]:
    """(what is wrong, what would be right) in the line that was written."""
    twice = re.search(r"Cannot declare \((.*?),?\) twice", fault)
    if twice:
        names = ".".join(part.strip().strip("'\"") for part in twice.group(1).split(","))
        return f"[{names}] stands twice", "every name is used once: rename one of the two, or put their keys together"
    if "overwrite" in fault:
        return "this key stands twice", "every name is used once: remove one of the two"
    bare = _BARE.match(written)
    value = bare.group(1) if bare else ""
    if value in _SWITCHES:
        key = written.partition("=")[0].strip()
        return f"{value} is no value", f"write {key} = {_SWITCHES[value]}"
    if _DATE.match(value):
        return f"{value} is no date, and no key takes one", "write a time with its unit in quotes"
    if _QUANTITY.fullmatch(value):
        return f'"{value}" stands without quotes', f'write "{value}"'
    if value and re.fullmatch(r"[A-Za-z][\w. -]*", value) and value not in ("true", "false"):
        return f'"{value}" stands without quotes', f'write "{value}"'
    return fault[:1].lower() + fault[1:], "mend the TOML there"
