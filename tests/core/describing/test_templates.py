"""Typical circuits: each is a whole circuit that predicts, and names and codes lead to the right one."""

from __future__ import annotations

from functools import cache

import pytest

from sondar.circuit_files import load_circuit_text
from sondar.code_library import circuit_templates, circuit_text, generic_codes
from sondar.core.circuit.network import Circuit
from sondar.core.circuit_review import warnings_of
from sondar.core.describing.templates import by_words, read_templates
from sondar.core.diagnosis.belief import update
from sondar.core.diagnosis.costs import Situation
from sondar.core.diagnosis.predictions import Predictor
from sondar.core.diagnosis.ranking import ranked_tests
from sondar.core.instruments import ORDINARY

TEMPLATES = circuit_templates()


@cache
def circuit(name: str) -> Circuit:
    return Circuit(load_circuit_text(circuit_text(TEMPLATES[name], {"make": "Brigg", "model": "Skerry"}, "tested part")))


def test_there_are_at_least_fifty() -> None:
    assert len(TEMPLATES) >= 50


@pytest.mark.parametrize("name", TEMPLATES)
def test_every_template_is_a_circuit_without_doubts_of_its_own(name: str) -> None:
    made = circuit(name)
    assert warnings_of(made) == []
    cavities = made.document.connectors["X2"].cavities if "X2" in made.document.connectors else {}
    assert len(cavities) == TEMPLATES[name].wires
    assert not any(wire.colour for wire in made.document.wires.values()), "no colour is made up"
    named = [part for part in made.document.parts.values() if part.title == "Tested part"]
    assert len(named) == (1 if TEMPLATES[name].data.get("parts") else 0)


@pytest.mark.parametrize("name", [n for n in TEMPLATES if n not in ("range-switch-coded", "latch-motor", "throttle-body-six-wire")])
def test_measuring_begins_with_something_that_can_be_done(name: str) -> None:
    made = circuit(name)
    predictor = Predictor(made)
    ranking, _ = ranked_tests(predictor, update(predictor, []), Situation(setup=made.rest_setup(), instruments=tuple(ORDINARY)))
    first = ranking.proposals[0]
    assert not ranking.settled
    assert first.saving_min > 0.0
    assert not made.impossible(first.test.setup)


# Names of parts as people in a workshop say them, with the circuits that would be right for each.
NAMES = """
coolant temperature sensor: thermistor-two-wire
water temperature: thermistor-two-wire
outside temperature sensor: thermistor-two-wire
intake air temperature: thermistor-two-wire
oil temperature sensor: thermistor-two-wire
evaporator temperature sensor: thermistor-two-wire
coolant sender: thermistor-one-wire thermistor-two-wire
EGT sensor: exhaust-temperature-two-wire
exhaust gas temperature sensor: exhaust-temperature-two-wire
MAP sensor: pressure-three-wire
boost pressure sensor: pressure-three-wire
rail pressure sensor: pressure-three-wire
refrigerant pressure sensor: pressure-three-wire
differential pressure sensor: pressure-three-wire
tank pressure sensor: pressure-three-wire
throttle position sensor: position-three-wire throttle-body-six-wire
ride height sensor: position-three-wire
EGR position sensor: position-three-wire flap-h-bridge
cam sensor: hall-three-wire
camshaft sensor: hall-three-wire
CMP: hall-three-wire
vehicle speed sensor: hall-three-wire
output speed sensor: hall-three-wire
ethanol sensor: frequency-three-wire
TMAP sensor: pressure-temperature-four-wire
combined pressure and temperature sensor: pressure-temperature-four-wire
MAF: air-mass-three-wire air-mass-five-wire air-mass-frequency
air mass sensor: air-mass-three-wire air-mass-five-wire air-mass-frequency
air flow meter: air-mass-three-wire air-mass-five-wire
lambda sensor: oxygen-four-wire
oxygen sensor: oxygen-four-wire oxygen-one-wire oxygen-wide-band
wide-band sensor: oxygen-wide-band
NOx sensor: sensor-with-module
knock sensor: knock-two-wire
crankshaft sensor: inductive-two-wire hall-three-wire
crank sensor: inductive-two-wire hall-three-wire
pick-up coil: inductive-two-wire
ABS sensor: active-two-wire
wheel speed sensor: active-two-wire inductive-two-wire
accelerator pedal: pedal-six-wire
pedal sensor: pedal-six-wire
throttle body: throttle-body-six-wire
electronic throttle: throttle-body-six-wire
tank sender: float-level
fuel level sender: float-level
fuel gauge: float-and-gauge float-level
rain sensor: serial-three-wire
oil pressure switch: switch-to-ground switch-one-wire
door switch: switch-to-ground
clutch switch: switch-to-ground
coolant level switch: switch-to-ground
reverse switch: switch-to-supply
ignition switch: switch-to-supply
cruise control switch: switch-ladder
steering wheel switches: switch-ladder
gear range switch: range-switch-coded
brake switch: brake-switch-double
brake light switch: brake-switch-double
purge valve: valve-pulsed
EVAP purge valve: valve-pulsed
wastegate valve: valve-pulsed
oil control valve: valve-pulsed
pressure regulator: valve-pulsed
vent valve: solenoid-low-side
shift solenoid: solenoid-low-side
shut-off valve: solenoid-low-side
fuel injector: injector-port injector-both-sides
injector: injector-port injector-both-sides
diesel injector: injector-both-sides
ignition coil: coil-two-wire coil-three-wire coil-four-wire
coil on plug: coil-three-wire
glow plug: glow-plug
radiator fan: relay-motor fan-power-module
cooling fan: relay-motor fan-power-module
blower: relay-motor
fuel pump: relay-pump pump-power-module
coolant pump: relay-pump pump-power-module
main relay: relay-only
starter relay: relay-only starter
compressor clutch: relay-only
headlamp level motor: motor-module
window lifter: window-motor motor-h-bridge-two-wire
door lock: latch-motor motor-h-bridge-two-wire
mirror motor: mirror-motor motor-h-bridge-two-wire
blend door: flap-h-bridge
EGR valve: flap-h-bridge
turbo actuator: flap-h-bridge
swirl flaps: flap-vacuum-or-motor
idle stepper: stepper-four-wire
tail lamps: lamp-shared-ground
indicator: lamp-local-ground
headlamp: lamp-local-ground
heated rear window: heater-relay
seat heater: heater-relay
map thermostat: heater-low-side
rear wiper: wiper-motor
horn: horn
starter: starter
alternator: charging
CAN bus: bus-pair
LIN: bus-single-wire
"""


def test_names_lead_to_the_right_circuit() -> None:
    lines = [line.split(": ") for line in NAMES.strip().splitlines()]
    wrong = {name: found[0].id if (found := by_words(TEMPLATES, name)) else "" for name, wanted in lines
             if not (found := by_words(TEMPLATES, name)) or found[0].id not in wanted.split()}  # fmt: skip
    assert len(lines) >= 100
    assert len(wrong) <= 0.05 * len(lines), wrong


# Codes with the circuits in which their fault would be looked for, written apart from the library.
CODES = """
thermistor-two-wire: P0071 P0072 P0097 P0112 P0113 P0116 P0117 P0118 P0119 P0182 P0183 P0196 P0197 P0517 P0536 P0711 P0712 P2183 P2184 P2185
pressure-three-wire: P0106 P0107 P0108 P0191 P0192 P0193 P0236 P0237 P0238 P0451 P0452 P0453 P0532 P0533 P0841 P2227 P2284 P2453 P2454
position-three-wire: P0405 P0406 P0407 P0806 P0905 P2016 P2563 P2564
throttle-body-six-wire pedal-six-wire position-three-wire: P0121 P0122 P0123 P0222 P0223 P2101 P2111 P2119 P2122 P2123 P2127 P2128 P2135 P2138
air-mass-three-wire air-mass-five-wire air-mass-frequency: P0100 P0101 P0102 P0103 P0104
hall-three-wire: P0340 P0341 P0342 P0343 P0366 P0367 P0500 P0501 P0716 P0717 P0721 P0722 P0791
inductive-two-wire hall-three-wire: P0335 P0336 P0337 P0338 P0385
oxygen-four-wire: P0030 P0031 P0036 P0037 P0053 P0130 P0131 P0132 P0133 P0134 P0135 P0136 P0137 P0138 P0140 P0141 P0150 P0155 P0161 P2195 P2231
oxygen-wide-band: P2237 P2238 P2243 P2245 P2251 P2626
sensor-with-module: P2200 P2201 P2205
knock-two-wire: P0325 P0326 P0327 P0328 P0332
active-two-wire inductive-two-wire: C0031 C0034 C0037 C003A
float-level: P0460 P0461 P0462 P0463
valve-pulsed: P0010 P0013 P0020 P0045 P0243 P0245 P0246 P0443 P0444 P0445 P0458 P0459 P0476 P0745 P0748 P0962 P0963 P2088 P2089
solenoid-low-side: P0446 P0447 P0448 P0498 P0499 P0753 P0758 P0763 P0973 P0974 P2418 P2645 P3401
injector-port injector-both-sides: P0201 P0202 P0203 P0204 P0261 P0262 P0264 P2047
coil-three-wire coil-two-wire coil-four-wire: P0300 P0301 P0304 P0350 P0351 P0352 P0354 P2300
relay-motor fan-power-module: P0480 P0481 P0691 P0692
relay-pump pump-power-module: P0230 P0231 P0627 P0628 P0629
relay-only: P0615 P0616 P0645 P0685 P0686
switch-to-ground: P0520 P0521 P0522 P0523 P0704 P0850
brake-switch-double: P0504 P0571 P0703
range-switch-coded: P0705 P0706 P0707
stepper-four-wire: P0508 P0509 P0511
glow-plug: P0380 P0671 P0674
charging: P0562 P0620 P0622
reference-5v: P0641 P0642 P0643 P0651 P0652 P0697
heater-low-side: P0597 P0598 P0599
module-supply: U0100 U0121 U0140 P0606 P0880
bus-pair: U0001 U0002 U0028 U0073
lamp-local-ground: P0650 P0648
flap-h-bridge: P0403 P0487 P0489
"""


def test_codes_lead_to_the_right_circuit() -> None:
    held = generic_codes()
    wanted = {
        code: names.split() for names, codes in (line.split(": ") for line in CODES.strip().splitlines()) for code in codes.split()
    }
    wrong = {code: held.codes[code].template for code, names in wanted.items() if held.codes[code].template not in names}
    assert len(wanted) >= 200
    assert len(wrong) <= 0.05 * len(wanted), wrong


def test_the_count_of_wires_decides_between_kinds() -> None:
    assert by_words(TEMPLATES, "air mass sensor", wires=3)[0].id == "air-mass-three-wire"
    assert by_words(TEMPLATES, "air mass sensor", wires=5)[0].id == "air-mass-five-wire"
    assert by_words(TEMPLATES, "ignition coil", wires=2)[0].id == "coil-two-wire"
    assert by_words(TEMPLATES, "oil pressure switch", wires=1)[0].id == "switch-one-wire"


def test_words_that_fit_nothing_find_nothing() -> None:
    assert by_words(TEMPLATES, "bilge") == []
    assert by_words(TEMPLATES, " ") == []


def test_one_name_for_two_templates_is_refused() -> None:
    one = {"id": "a", "title": "A", "words": ["a"]}
    with pytest.raises(ValueError, match="'a' is there twice"):
        read_templates([one, one])
