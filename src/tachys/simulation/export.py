"""What was simulated as plain data: format "tachys.simulation/1"."""

from __future__ import annotations

from typing import Any

from tachys.measures import measures_of
from tachys.plain import seconds, statistics
from tachys.simulation.result import NeedSeen, Simulated
from tachys.simulation.statistics import CounterPlayed
from tachys.simulation.supply import played
from tachys.worstcase.supply import currents_of, supply_data


def _need(need: NeedSeen) -> dict[str, Any]:
    given = need.need.given
    seen = {"seen": statistics(need.seen)} if need.need.timed else {}
    return {
        "verdict": str(need.verdict),
        "limit": given(need.limit),
        **seen,
        "value": given(need.value),
        "missed": need.misses,
        "misses": need.misses,
        "first": [
            {"run": miss.run, "at": seconds(miss.at), "value": given(miss.value), "kind": miss.kind}
            for miss in need.first
        ],
    }


def _counter(counter: CounterPlayed) -> dict[str, Any]:
    none = counter.most < 0
    between = {"least": None if none else counter.least, "most": None if none else counter.most}
    return {"between": between, "looks": counter.looks, "tops": counter.tops, "missed": counter.missed}


def simulated_data(result: Simulated) -> dict[str, Any]:
    """Everything, keyed by the model's names."""
    system, paper = result.bounds.system, result.bounds

    def things(kind: str, lost: str = "") -> Any:
        found: dict[str, Any] = {}
        for name in paper.of_kind(kind):
            found[name] = {m.key: statistics(result.stats(m.name(name))) for m in measures_of(kind, played=True)}
            if lost:
                found[name][lost] = result.lost[f"{kind}.{name}"]
        return found

    return {
        "format": "tachys.simulation/1",
        "title": system.title,
        "laid_over": list(system.laid_over),
        "runs": result.runs,
        "length": seconds(result.length),
        "complete": result.complete,
        "load": {"seen": float(result.load), "shares": {who: float(share) for who, share in result.shares.items()}},
        "loop": things("loop").get("", {}),
        "isrs": {name: {**each, "cleared": result.cleared[name]} for name, each in things("isr", "lost").items()},
        "units": {name: {**each, "silent": result.silent[name]} for name, each in things("unit", "lost").items()},
        "flags": things("flag", "overwritten"),
        "buffers": {
            name: {"level": {"most": result.levels[name]}, **each} for name, each in things("buffer", "lost").items()
        },
        "steps": things("step"),
        "needs": {name: _need(need) for name, need in result.needs.items()},
        **(
            {
                "pins": {
                    name: {"edges": pin.edges, "high": pin.high / result.length} for name, pin in result.pins.items()
                }
            }
            if result.pins
            else {}
        ),
        **({"counters": {name: _counter(each) for name, each in result.counters.items()}} if result.counters else {}),
        **({"energy": supply_data(played(result), system.battery)} if currents_of(system) else {}),
    }
