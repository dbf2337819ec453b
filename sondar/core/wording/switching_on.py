"""How a vehicle is switched on and off, for steps and cautions: by a key, by a button, or by a button with a drive that may be silent.

A position of the control ``key`` says what is supplied; how hands get there differs, and with it what can hurt: a hybrid or electric
vehicle that stands still and silent may be ready to drive, and an engine with stop-start begins to run by itself.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from sondar.core.circuit.model import Setup

Starting = Literal["", "key", "button", "hybrid"]
"""What is kept with a vehicle; empty where nobody has said."""

STARTINGS: dict[str, str] = {"key": "a key", "button": "a start button", "hybrid": "a start button, hybrid or electric"}
"""How a vehicle may be switched on, with what a person reads."""

_BUTTON = {
    "off": "key off (button until the display goes out, key away from the vehicle)",
    "on": "key on (button without the brake pedal)",
    "run": "key run (brake pedal and button)",
}
_HYBRID = {
    "off": "key off (button until READY goes out, key away from the vehicle)",
    "on": "key on (button without the brake pedal: READY stays out)",
    "run": "key run (brake pedal and button until READY; only its speed tells whether the engine runs)",
}
_KEY_STEPS: Mapping[str, Mapping[str, str]] = {"button": _BUTTON, "hybrid": _HYBRID}

CAUTION_STOP_START = (
    "Stop-start: switch it off for the reading, as the manufacturer says. The engine must neither stop nor start by itself while hands "
    "or leads are near belts and fans."
)
CAUTION_SILENT = (
    "A silent hybrid or electric vehicle is not off: before hands go in or a plug comes apart, READY must be out and the key away. "
    "Orange cables, their plugs and covers are only for people trained and permitted for high voltage."
)


def key_step(position: str, starting: str) -> str:
    """How the key gets to a position; ``starting`` is one of ``STARTINGS`` or empty where nobody has said."""
    return _KEY_STEPS.get(starting, {}).get(position, f"key {position}")


def starting_cautions(setup: Setup, starting: str, *, hands: bool) -> list[str]:
    """What can hurt in a set-up because of how the vehicle is switched on; ``hands``: probes are put on or a plug is parted."""
    found = [CAUTION_SILENT] if starting == "hybrid" and hands else []
    if starting and dict(setup.controls).get("key") == "run":
        found.append(CAUTION_STOP_START)
    return found
