"""What the last readings have left on a vehicle: connectors apart, controls switched, parts fitted on trial.

A vehicle is handed over only when each has been put back, and whoever takes over a job has to know.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.costs import after_cranking


@dataclass(frozen=True)
class Left:
    """The vehicle as the last reading of one circuit left it.

    Attributes:
        seq: number of that reading in its job. controls: positions that differ from rest. unplugged: connectors that were apart.
        on_trial: (number of the reading, part) of known-good parts that were fitted on trial.
        probed: (number of the latest reading, connector) of connectors that were probed while connected: at a sealed one a break-out lead
            stands between its halves.
    """

    seq: int
    circuit: Circuit
    controls: Mapping[str, str]
    unplugged: Sequence[str]
    on_trial: Sequence[tuple[int, str]] = ()
    probed: Sequence[tuple[int, str]] = ()


@dataclass(frozen=True)
class PutBack:
    """One thing to be put back.

    Attributes:
        key: names it and the reading that left it so: done once more, it is to be put back once more.
        caution: what can hurt or break while it is done; empty for nothing beyond the usual.
    """

    key: str
    title: str
    caution: str = ""


KEY_OFF_FIRST = "Key off before a module's plug is connected."


def to_put_back(left: Sequence[Left]) -> list[PutBack]:
    """Everything that is not as it was, in the order of hands: commands off, key off, break-out leads out, then connect, then parts on trial.

    Of circuits that share something the latest reading counts.
    """
    apart: dict[str, PutBack | None] = {}
    switched: dict[str, PutBack | None] = {}
    leads: dict[str, PutBack] = {}
    trial: dict[str, PutBack] = {}
    for last in sorted(left, key=lambda item: item.seq):
        document = last.circuit.document
        for name, connector in document.connectors.items():
            place = f" ({connector.title})" if connector.title else ""
            is_apart = name in last.unplugged
            apart[name] = PutBack(f"connector {name}@{last.seq}", f"Connect {name}{place}", KEY_OFF_FIRST) if is_apart else None
        left_at = after_cranking(last.circuit, {**dict(last.circuit.rest_setup().controls), **last.controls})
        for name, values in last.circuit.controls.items():
            position = left_at[name]
            known = document.controls.get(name)
            title = known.title if known is not None else "Key"
            moved = position != values[0]
            switched[name] = PutBack(f"control {name}@{last.seq}", f"{title}: back to {values[0]}") if moved else None
        for seq, name in last.probed:
            if name in document.connectors and not document.connectors[name].back_probe:
                leads[name] = PutBack(
                    f"lead {name}@{seq}",
                    f"Break-out lead at {name}: take it out, connect the halves and check the seal",
                    KEY_OFF_FIRST,
                )
        for seq, part in last.on_trial:
            name = document.parts[part].title or part if part in document.parts else part
            trial[part] = PutBack(
                f"part {part}@{seq}", f"Known-good part on trial at {name}: take it out, or record it as the repair"
            )
    commands = [item for name, item in switched.items() if name != "key"]
    ordered = [*commands, switched.get("key"), *leads.values(), *apart.values(), *trial.values()]
    return [item for item in ordered if item is not None]
