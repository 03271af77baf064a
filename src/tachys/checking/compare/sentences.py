"""The words of findings: what is wrong, as one sentence that stands alone."""

from __future__ import annotations

_WORDS = {
    "period-off": "its mean period is not the modelled one",
    "every-off": "it runs at another pace than the modelled one",
    "gap-closer": "two events came closer than its gap",
    "burst-denser": "its events came denser than its bursts allow",
    "jitter-more": "its events stray further from their grid than its jitter",
    "takes-longer": "it works longer than modelled",
    "takes-shorter": "it works for less than modelled",
    "cost-longer": "its own running time is longer than modelled",
    "cost-shorter": "its own running time is shorter than modelled",
    "time-longer": "it blocks longer than modelled",
    "time-shorter": "it is done sooner than modelled",
    "guard-longer": "it holds interrupts off for longer than modelled",
    "runs-unasked": "it runs without an event: something else raises its line as well",
    "lost-wake-up": "the core slept on a flag that was set, until the next interrupt: a lost wake-up",
    "lost-unexpected": "events were lost, although the model loses none",
    "overwritten-unexpected": "it was set while still set, although the model has no such case",
    "runs-too-often": "it runs more often than its sources allow",
    "comes-too-seldom": "it stays away longer than the model allows",
    "comes-no-more": "it stops coming",
    "never-comes": "its line never moves",
}
_QUANTITIES = {
    "latency": "its first instruction came",
    "response": "it was done",
    "span": "first to last instruction took",
    "reaction": "the step that polls it came",
    "duration": "it took",
}


def sentence(code: str, more: str = "") -> str:
    """The sentence of a finding, with what is known besides."""
    quantity, _, side = code.partition("-")
    if code in _WORDS:
        words = _WORDS[code]
    elif quantity in _QUANTITIES:
        late = "later" if quantity in ("latency", "response", "reaction") else "longer"
        soon = "sooner" if late == "later" else "less"
        words = f"{_QUANTITIES[quantity]} {late if side == 'beyond-bound' else soon} than the model allows"
    else:
        words = code.replace("-", " ")
    if not more:
        return words
    return f"{words} ({more})" if ":" in words or code == "burst-denser" else f"{words}: {more}"
