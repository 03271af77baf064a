"""The words of findings: what is wrong, as one sentence that stands alone."""

from __future__ import annotations

_WORDS = {
    "period-off": "its mean period is not the modelled one",
    "every-off": "it runs at another pace than the modelled one",
    "gap-closer": "two events came closer than its gap",
    "within-longer": "a burst of it lasts longer than modelled",
    "burst-denser": "its events came denser than its bursts allow",
    "jitter-more": "its events stray further from their grid than its jitter",
    "takes-longer": "it works longer than modelled",
    "takes-shorter": "it works for less than modelled",
    "counts-off": "it ends after another number of events than modelled",
    "answers-off": "it answers more or less often than modelled",
    "looks-off": "more or fewer counts lie between two looks than the model allows",
    "pin-still": "it never moves",
    "pin-inverted": "it goes the other way round",
    "pin-other": "something else moves it",
    "pin-edges": "more or fewer edges than its events ask for",
    "pin-alone": "edges without an event",
    "pin-first": "its level before anything ran is another",
    "pulse-longer": "a pulse of it is longer than modelled",
    "pulse-shorter": "a pulse of it is shorter than modelled",
    "current-more": "it takes more current than modelled",
    "current-less": "it takes less current than modelled",
    "exit-longer": "it takes longer from the end of a routine to what goes on than modelled",
    "exit-shorter": "it takes less from the end of a routine to what goes on than modelled",
    "entry-shorter": "routines begin sooner after their events than its entry allows",
    "chain-longer": "it takes longer from the end of a routine to the next one than modelled",
    "chain-shorter": "it takes less from the end of a routine to the next one than modelled",
    "stands-still": "its clock seems to stand still while the core sleeps; else it takes what it should",
    "cost-longer": "its own running time is longer than modelled",
    "cost-shorter": "its own running time is shorter than modelled",
    "nth-longer": "what only some of its runs do takes longer than modelled",
    "nth-shorter": "what only some of its runs do takes less than modelled",
    "moment-later": "an event within it comes later than modelled",
    "moment-sooner": "an event within it comes sooner than modelled",
    "each-longer": "each item that it takes costs more than modelled",
    "each-shorter": "each item that it takes costs less than modelled",
    "takes-meanwhile": "it takes what comes while it drains, too, not only what was in as it began",
    "holds-less": "it holds less than modelled, or what feeds it does not each time",
    "items-lost": "items found no room, although the model loses none",
    "level-more": "more were in it at once than the model allows",
    "time-longer": "it blocks longer than modelled",
    "time-shorter": "it is done sooner than modelled",
    "guard-longer": "it holds interrupts off for longer than modelled",
    "level-other": "its level is another one than modelled",
    "nests": "routines nest, which they do not by the model",
    "runs-unasked": "it runs without an event: something else raises its line as well",
    "lost-wake-up": "the core slept on a flag that was set, until the next interrupt: a lost wake-up",
    "lost-unexpected": "events were lost, although the model loses none",
    "overwritten-unexpected": "it was set while still set, although the model has no such case",
    "runs-too-often": "it runs more often than its sources allow",
    "transfer-other": "more or fewer items are worked off than are put",
    "comes-too-seldom": "it stays away longer than the model allows",
    "comes-no-more": "it stops coming",
    "never-comes": "its line never moves",
    "was-reset": "it began anew: the board was reset",
}
_QUANTITIES = {
    "latency": "its first instruction came",
    "response": "it was done",
    "span": "first to last instruction took",
    "reaction": "the step that polls it came",
    "duration": "it took",
}


_MENDS = {
    "period-off": "look at its registers; tachys dividers has the setting for a rate",
    "every-off": "look at what the step is timed by",
    "within-longer": "lengthen what waits for its end, or let tachys fit write what was measured",
    "gap-closer": "debounce it, or write the smaller gap",
    "burst-denser": "debounce it, or write the denser burst",
    "jitter-more": "write the larger jitter, or find what delays them",
    "takes-longer": "look at its clock and setting; tachys fit writes what was measured",
    "takes-shorter": "look at its clock and setting; tachys fit writes what was measured",
    "counts-off": "look at what it is set to; tachys fit writes what was counted",
    "answers-off": "look at what it is asked; tachys fit writes how often it answered",
    "looks-off": "look at what is counted, and at how often it is looked at",
    "pin-still": "look at the pin and its settings, and at the probe",
    "pin-inverted": 'look at its polarity, or write active = "low" at its probe',
    "pin-other": "look at what writes this pin, or exchange two probes",
    "pin-edges": "look at each way through what writes it",
    "pin-alone": "look at what else writes this pin",
    "pin-first": "look at what sets it up, or write the other level",
    "pulse-longer": "look at what ends it, or write the longer pulse",
    "pulse-shorter": "look at what ends it, or write the shorter pulse",
    "current-more": "look at what is left switched on, or let tachys fit write what was measured",
    "current-less": "let tachys fit write what was measured",
    "exit-longer": "look at the wait states of its memory, or let tachys fit write what was measured",
    "exit-shorter": "let tachys fit write what was measured",
    "entry-shorter": "let tachys fit write what was measured, or look at edge and after of the probes",
    "chain-longer": "look at the wait states of its memory, or let tachys fit write what was measured",
    "chain-shorter": "let tachys fit write what was measured",
    "stands-still": "keep that clock on, or sleep less deep meanwhile; in the model: stops, plain_if",
    "cost-longer": "shorten it, or let tachys fit write what was measured",
    "cost-shorter": "let tachys fit write what was measured",
    "nth-longer": "shorten it, or let tachys fit write what was measured",
    "nth-shorter": "let tachys fit write what was measured",
    "moment-later": "do it sooner, or let tachys fit write what was measured",
    "moment-sooner": "let tachys fit write what was measured",
    "each-longer": "shorten what it does with each, or let tachys fit write what was measured",
    "each-shorter": "let tachys fit write what was measured",
    "takes-meanwhile": 'write until = "empty" into its drains, or let it take what was in as it began',
    "holds-less": "look at its depth, at what feeds it, and whether its drain needs until",
    "items-lost": "look at what kept its drain",
    "level-more": "look at what asks for its drain, and at what kept that",
    "time-longer": "find what it waits for",
    "time-shorter": "find what it waits for",
    "guard-longer": "shorten the guard, or hold off fewer levels; tachys fit writes what was measured",
    "level-other": "hold its level against its priority register, and look whether something lets interrupts in",
    "nests": "write nesting = true, or look for what lets interrupts in within that routine",
    "runs-unasked": "find what else raises the line, or sets the flag",
    "runs-too-often": "look at the timer behind it, and at what ran before the first of them",
    "transfer-other": "look at how many there are, and at what ends it early; write that number as items of fed_by",
    "comes-too-seldom": "look at the timer behind it, or at what holds it off",
    "comes-no-more": "look at what should start it again",
    "never-comes": "look at the pin, the probe, and whether it is switched on",
    "lost-wake-up": "look at the flag and halt as one, with interrupts held off",
    "lost-unexpected": "look at what ran meanwhile",
    "overwritten-unexpected": "look at what kept the step that takes it",
    "not-modelled": "add the routine to the model",
    "was-reset": "look at what lies before it, and at what feeds the watchdog",
}
BEYOND = "look at the moment: something is missing in the model"
HELD_OFF = "held off while"  # how a text tells who did
FOLLOWS_EACH = "it follows each"  # how a text tells that another n counts
COUNTED = "look at what counts its runs, in the firmware or as n of nth in the model"
HELD = "hold both levels against their priority registers, or write a guard into what held it off"
BELOW = "look at the probe: another edge, or its after; or an entry, a cost or a pause is modelled too long"


def mend_of(code: str, text: str = "") -> str:
    """What to do next about a finding; its ``text`` may tell more than its code."""
    if HELD_OFF in text and code not in _MENDS:
        return HELD
    if FOLLOWS_EACH in text:
        return COUNTED
    return _MENDS.get(code) or (BELOW if code.endswith("below-bound") else BEYOND)


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
    aside = code in ("burst-denser", "items-lost", "level-more") or quantity in ("counts", "answers", "nth", "moment")
    return f"{words} ({more})" if ":" in words or aside or more.startswith("each ") else f"{words}: {more}"


def codes() -> tuple[str, ...]:
    """The codes of all findings."""
    late = (f"{quantity}-{side}" for quantity in _QUANTITIES for side in ("beyond-bound", "below-bound"))
    return (*_MENDS, *late)
