"""Quantities on the command line: the same words as in a model file, and errors in one line."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from typing import Any

import click

from tachys.dividers.counter import Prescalers
from tachys.model.quantities import (
    PS_PER_SECOND,
    Duration,
    parse_baud,
    parse_duration,
    parse_positive_duration,
    parse_rate,
    parse_share,
    parse_tolerance,
)

LARGEST = 2**64
MOST_CHOICES = 1 << 20


class Quantity(click.ParamType):  # type: ignore[type-arg]
    """A value that one of the parsers of the model reads."""

    def __init__(self, name: str, parse: Callable[[str], Any]) -> None:
        self.name = name
        self._parse = parse

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """The parsed value, or a usage error in the parser's words."""
        if not isinstance(value, str):
            return value
        try:
            return self._parse(value)
        except ValueError as error:
            self.fail(str(error), param, ctx)


def _seconds(text: str) -> Fraction:
    return _in_seconds(parse_positive_duration(text), text)


def _instant(text: str) -> Fraction:
    return _in_seconds(parse_duration(text), text)


def _in_seconds(duration: Duration, text: str) -> Fraction:
    if duration.clock is not None:
        raise ValueError(f'"{text}" counts cycles; write a time such as "1 ms"')
    return duration.amount / PS_PER_SECOND


def _whole(text: str, least: int = 1) -> int:
    if not text.strip().lstrip("-").isdecimal() or len(text) > 40:
        raise ValueError(f'"{text[:40]}" is not a whole number')
    number = int(text)
    if not least <= number <= LARGEST:
        raise ValueError(f"{text} is not in reach: {least} to 2^64")
    return number


def _factors(text: str) -> Prescalers:
    """ "24", "1,8,64" or "1..65536"."""
    first, dots, last = text.partition("..")
    if dots:
        low, high = _whole(first), _whole(last)
        if low != 1 or high > MOST_CHOICES:
            raise ValueError(f'"{text}": a range runs from 1 to at most {MOST_CHOICES}')
        return Prescalers(most=high)
    return Prescalers(choices=tuple(sorted({_whole(part) for part in text.split(",")})))


def _width(text: str) -> int:
    number = _whole(text)
    if number > 64:
        raise ValueError(f"no counter has {text} bits; 1 to 64, mostly 8, 16, 24 or 32")
    return number


TIME = Quantity("time", _seconds)
INSTANT = Quantity("time", _instant)  # as a time, and 0 too
RATE = Quantity("rate", parse_rate)
BAUD = Quantity("baud", parse_baud)
SHARE = Quantity("share", parse_share)
TOLERANCE = Quantity("share", parse_tolerance)
COUNT = Quantity("n", _whole)
REGISTER = Quantity("n", lambda text: _whole(text, 0))
FACTORS = Quantity("n | n,n,… | 1..n", _factors)
WIDTH = Quantity("bits", _width)
