"""What is said of a proposed test: the steps to it, what each result would mean, why it, what can hurt."""

from __future__ import annotations

from collections.abc import Sequence

from sondar.core.circuit.network import Circuit
from sondar.core.diagnosis.costs import Step
from sondar.core.diagnosis.predictions import Outlook
from sondar.core.diagnosis.proposal import Proposal
from sondar.core.instruments import instrument
from sondar.core.quantities import format_share
from sondar.core.wording.labels import range_label
from sondar.core.wording.switching_on import key_step, starting_cautions

CAUTION_SEIZED = (
    "Seized: agree the extra work and what it may destroy with the customer first. Heat, cutting and penetrating oil only away from "
    "fuel, lines and wiring, with eye protection."
)
CAUTION_SEALED = (
    "Sealed connector: never pierce a seal or a wire, water follows the hole. Break-out lead with terminals of the same size only; "
    "take it out again."
)
CAUTION_CONNECTOR = "Key off before disconnecting or connecting a module plug. Do not use force on locks or seals."


def step_text(step: Step, starting: str = "") -> str:
    """One step in words; ``starting``: how the vehicle is switched on, see ``switching_on``."""
    if step.kind == "control" and step.target == "key":
        return key_step(step.position, starting)
    if step.kind == "free":
        return f"free {step.target}, which is seized"
    if step.kind == "lead":
        return f"break-out lead between the halves of {step.target}"
    return f"{step.target} {step.position}" if step.kind == "control" else f"{step.kind} {step.target}"


def outcome_label(outlook: Outlook, row: int) -> str:
    """What a person would call an outcome class: ``11.8 to 12.4 V``, ``OL``, ``dim``."""
    device = outlook.shown.instrument
    word = outlook.word(row)
    if word is not None:
        return device.label(word)
    ends = outlook.ends(row)
    return "another value" if ends is None else range_label(device, *ends)


def why(outcomes: Sequence[tuple[str, str, float]], proposal: Proposal) -> str:
    """Why this test: ``outcomes`` are (what it shows, unit in front then, its probability), likeliest first."""
    telling = outcomes[:3]
    if len(telling) < 2:
        return "Whatever it shows, the suspects stay much as they are."
    parts = [f"{label} points to {title} ({format_share(share)})" for label, title, share in telling]
    return f"{'; '.join(parts)}. Takes {proposal.minutes:.1f} min, saves {proposal.saving_min:.0f} min of expected loss."


def proposal_cautions(circuit: Circuit, proposal: Proposal, starting: str = "") -> list[str]:
    """What can hurt or break on the way to a test and while it is made."""
    found = []
    test = proposal.test
    for name, value in test.setup.controls:
        control = circuit.document.controls.get(name)
        if control is not None and control.caution and value != control.values[0]:
            found.append(control.caution)
    if any(step.kind in ("disconnect", "connect") for step in proposal.steps):
        found.append(CAUTION_CONNECTOR)
    if any(step.kind == "lead" for step in proposal.steps):
        found.append(CAUTION_SEALED)
    if any(step.kind == "free" for step in proposal.steps):
        found.append(CAUTION_SEIZED)
    if instrument(test.instrument).caution:
        found.append(instrument(test.instrument).caution)
    # The circuit's own caution stands for anything commanded, unless the control brought a closer one.
    commanded = any(value != circuit.controls[name][0] for name, value in test.setup.controls)
    if not found and commanded:
        found.extend(circuit.document.cautions)
    hands = instrument(test.instrument).probes or any(step.kind != "control" for step in proposal.steps)
    found.extend(starting_cautions(test.setup, starting, hands=hands))
    return list(dict.fromkeys(found))
