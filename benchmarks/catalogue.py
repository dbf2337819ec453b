"""What really goes wrong with vehicles, by kind of part: the list that benchmark worlds draw from.

Written from the trade's side and kept apart from the list of suspects in ``sondar``: strengths are continuous, places are taken from
the circuit document, and some entries (bridges, crossed cavities, shorts between wires) join points that no part joins. What is drawn
here is done to the network of a simulated vehicle as plain changes of branches.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import numpy as np

from sondar.core.circuit.document.fields import behind
from sondar.core.circuit.families import Plug
from sondar.core.circuit.model import AIR_OHM, CHASSIS, OPEN_OHM, Change
from sondar.core.circuit.network import Circuit

Draw = Callable[[np.random.Generator], tuple[Change, ...]]
Path = tuple[str, str, str]
"""(branch id, end, end) of a path that is not in the drawing."""

SYSTEM = "@system"


@dataclass(frozen=True)
class Trouble:
    """One thing that goes wrong at one place.

    Attributes:
        kind: family and manner, for results per kind. units: replaceable units of which any one named is right.
        weight: how often, relative to the others. draw: its changes at a strength drawn from its range.
        paths: branches that have to be added to the vehicle's network for it.
        behind: the fault id of the document that eyes and hands would find, if there is one.
    """

    kind: str
    units: frozenset[str]
    weight: float
    draw: Draw
    paths: tuple[Path, ...] = ()
    behind: str = ""
    graded: bool = field(default=False)


def _log(rng: np.random.Generator, low: float, high: float) -> float:
    return float(10.0 ** rng.uniform(np.log10(low), np.log10(high)))


def opened(branch: str) -> Draw:
    return lambda rng: (Change(branch, add_ohm=OPEN_OHM),)


def cut(branch: str) -> Draw:
    """A switching element that stays off."""
    return lambda rng: (Change(branch, set_ohm=AIR_OHM),)


def series(branch: str, low: float, high: float) -> Draw:
    return lambda rng: (Change(branch, add_ohm=_log(rng, low, high)),)


def path(branch: str, low: float, high: float) -> Draw:
    return lambda rng: (Change(branch, set_ohm=_log(rng, low, high)),)


def scaled(branch: str, low: float, high: float) -> Draw:
    return lambda rng: (Change(branch, scale=float(rng.uniform(low, high))),)


def source(branch: str, low: float, high: float) -> Draw:
    return lambda rng: (Change(branch, emf_scale=float(rng.uniform(low, high))),)


def volts(branch: str, low: float, high: float) -> Draw:
    return lambda rng: (Change(branch, emf_v=float(rng.uniform(low, high))),)


def blocked(branch: str) -> Draw:
    return lambda rng: (Change(branch, blocks=True),)


Row = tuple[str, float, Draw, bool]
"""(manner, weight, draw, its strength is graded) of one kind of part."""


def _share_of(branch_up: str, branch_down: str, total: float, healthy: float) -> Draw:
    """A divider that stands at a wrong share, at least 8 % of its range away from the right one."""

    def draw(rng: np.random.Generator) -> tuple[Change, ...]:
        share = healthy
        while abs(share - healthy) < 0.08:
            share = float(rng.uniform(0.02, 0.98))
        return Change(branch_up, set_ohm=total * (1.0 - share)), Change(branch_down, set_ohm=total * share)

    return draw


def _rows(name: str, part: object) -> list[tuple[str, float, Draw, bool, str]]:
    """(manner, weight, draw, graded, unit ending) of everything that goes wrong with one part of the document."""
    family = getattr(part, "family", "")
    moves, senses = getattr(part, "moves", ""), getattr(part, "senses", "")
    stuck = [("stuck", 0.8, blocked(name if family != "dc_motor" else f"{name}.brushes"), False, SYSTEM)] if moves else []
    if family == "battery":
        return [("failing", 0.4, volts(name, 5.5, 9.8), True, ""), ("terminal", 0.6, series(name, 0.1, 1e3), True, "")]
    if family == "fuse":
        return [("blown", 1.5, opened(name), False, ""), ("contact", 0.7, series(name, 0.1, 100), True, "")]
    if family == "wire":
        factor = 3.0 if part.exposed else 1.0  # type: ignore[attr-defined]
        return [
            ("open", factor, opened(name), False, ""), ("series", 0.7 * factor, series(name, 0.3, 1e4), True, ""),
            ("to ground", 0.5 * factor, path(f"{name}.to_ground", 0.1, 2e3), True, ""),
            ("to supply", 0.12 * factor, path(f"{name}.to_supply", 0.1, 2e3), True, ""),
        ]  # fmt: skip
    if family == "contact":
        rate = part.rate  # type: ignore[attr-defined]
        return [("open", 0.5 * rate, opened(name), False, ""), ("series", 0.8 * rate, series(name, 0.3, 1e4), True, "")]
    if family == "splice":
        rows = []
        for leg in part.legs:  # type: ignore[attr-defined]
            branch = f"{name}.leg_{leg}"
            rows += [("open", 0.2, opened(branch), False, ""), ("series", 0.3, series(branch, 0.3, 1e4), True, "")]
        return rows
    if family == "ground_point":
        return [("open", 0.5, opened(name), False, ""), ("series", 0.8, series(name, 0.1, 1e3), True, "")]
    if family == "switch":
        return [
            ("stays open", 1.0, cut(name), False, ""), ("stays closed", 0.4, path(f"{name}.leak", 0.01, 0.02), False, ""),
            ("leaks", 0.3, path(f"{name}.leak", 1.0, 2e4), True, ""), ("series", 0.8, series(name, 1.0, 1e4), True, ""),
        ]  # fmt: skip
    if family == "relay":
        coil, contact = f"{name}.coil", f"{name}.contact"
        rows = [
            ("coil open", 1.0, opened(coil), False, ""), ("coil turns", 0.3, scaled(coil, 0.05, 0.6), True, ""),
            ("contact open", 1.2, cut(contact), False, ""), ("contact burnt", 1.0, series(contact, 0.1, 100), True, ""),
            ("contact welded", 0.6, path(contact, 0.004, 0.006), False, ""),
        ]  # fmt: skip
        if part.suppression == "diode":  # type: ignore[attr-defined]
            rows.append(("diode short", 0.2, path(f"{name}.suppressor", 0.03, 0.08), False, ""))
        return rows
    if family == "resistor":
        ohms = part.resistance_ohm  # type: ignore[attr-defined]
        return [
            ("open", 1.0, opened(name), False, ""), ("short", 0.3, scaled(name, 0.02, 0.65), True, ""),
            ("high", 0.3, series(name, 0.5 * ohms, 20 * ohms), True, ""),
        ]  # fmt: skip
    if family in ("solenoid", "gauge"):
        ohms = part.coil_ohm  # type: ignore[attr-defined]
        return [
            ("open", 1.5, opened(name), False, ""), ("turns", 0.5, scaled(name, 0.02, 0.65), True, ""),
            ("series", 0.3, series(name, 0.5 * ohms, 50 * ohms), True, ""), *stuck,
        ]  # fmt: skip
    if family == "lamp":
        return [("broken", 2.5, opened(f"{name}.holder"), False, ""), ("holder", 0.8, series(f"{name}.holder", 1.0, 100), True, "")]
    if family == "dc_motor":
        armature = part.armature_ohm  # type: ignore[attr-defined]
        brushes = f"{name}.brushes"
        seized = (Change(name, curve_parameters=((2, 1e9),)), Change(brushes, blocks=True))
        return [
            ("open", 1.5, opened(brushes), False, ""), ("brushes", 1.0, series(brushes, 0.3, 100), True, ""),
            ("winding", 0.4, path(f"{name}.short", 0.1 * armature, 0.7 * armature), True, ""),
            ("seized", 0.6, lambda rng: seized, False, ""), *stuck,
        ]  # fmt: skip
    if family in ("low_side_driver", "high_side_driver"):
        return [
            ("dead", 1.2, cut(name), False, ""), ("stuck on", 0.5, path(name, 0.2, 0.3), False, ""),
            ("weak", 0.4, series(name, 1.0, 100), True, ""),
        ]  # fmt: skip
    if family == "module_input":
        rows = [("pull open", 0.5, cut(f"{name}.pull"), False, ""), ("leaks", 0.5, path(f"{name}.leak", 0.5, 1e4), True, "")]
        if part.pull == "up":  # type: ignore[attr-defined]
            rows.append(("inner supply", 0.4, source(f"{name}.pull", 0.0, 0.8), True, ""))
        return rows
    if family == "h_bridge":
        legs = [f"{name}.{leg}" for leg in ("high_a", "low_a", "high_b", "low_b")]
        dead = tuple(Change(leg, set_ohm=OPEN_OHM) for leg in legs)
        rows = [("dead", 0.8, lambda rng: dead, False, "")]
        rows += [(f"{leg.rsplit('.', 1)[1]} open", 0.3, cut(leg), False, "") for leg in legs]
        rows += [(f"{leg.rsplit('.', 1)[1]} shorted", 0.15, path(leg, 0.1, 0.2), False, "") for leg in legs]
        if part.teach_in:  # type: ignore[attr-defined]
            rows.append(("untaught", 0.5, lambda rng: dead, False, SYSTEM))
        return rows
    if family == "stepper":
        rows = []
        for coil in ("a", "b"):
            branch = f"{name}.{coil}"
            rows += [("coil open", 0.8, opened(branch), False, ""), ("coil turns", 0.4, scaled(branch, 0.02, 0.65), True, "")]
        return [*rows, *([("stuck", 0.8, blocked(f"{name}.a"), False, SYSTEM)] if moves else [])]
    if family == "heater":
        hot = part.rated_v**2 / part.rated_w  # type: ignore[attr-defined]
        return [
            ("burnt through", 2.0, opened(f"{name}.lead"), False, ""), ("short", 0.3, path(f"{name}.short", 0.05 * hot, 0.2 * hot), True, ""),
            ("series", 0.5, series(f"{name}.lead", 0.5 * hot, 5 * hot), True, ""),
        ]  # fmt: skip
    if family == "coded_switch":
        usual = [v for v in part.ohms.values() if 0.0 < v < 1e6]  # type: ignore[attr-defined]
        size = min(usual) if usual else 100.0
        return [
            ("open", 1.0, opened(name), False, ""), ("series", 1.0, series(name, 0.2 * size, 10 * size), True, ""),
            ("wet", 0.5, path(f"{name}.leak", 0.5 * size, 10 * size), True, ""),
        ]  # fmt: skip
    if family == "module_supply":
        return [("dead", 0.8, opened(f"{name}.input"), False, "")]
    if family == "reference_5v":
        return [("dead", 0.6, cut(name), False, ""), ("low", 0.3, source(name, 0.0, 0.8), True, "")]
    if family == "ratiometric":
        upper, lower = f"{name}.upper", f"{name}.lower"
        rows = [
            ("no output", 0.6, opened(name), False, ""), ("at the return", 0.4, opened(upper), False, ""),
            ("at the reference", 0.4, opened(lower), False, ""),
            ("reads wrong", 0.8, _share_of(upper, lower, part.total_ohm, part.rest_share), True, ""),  # type: ignore[attr-defined]
            ("loads the reference", 0.4, path(f"{name}.short", 0.1, 5.0), True, ""),
        ]  # fmt: skip
        if senses and part.moved_when:  # type: ignore[attr-defined]
            still = (
                Change(upper, set_ohm=part.total_ohm * (1 - part.rest_share)), Change(lower, set_ohm=part.total_ohm * part.rest_share),  # type: ignore[attr-defined]
            )  # fmt: skip
            rows.append(("nothing arrives", 0.6, lambda rng: still, False, SYSTEM))
        return rows
    if family == "bus_transceiver":
        dead = (Change(f"{name}.high", add_ohm=OPEN_OHM), Change(f"{name}.low", add_ohm=OPEN_OHM))
        return [("dead", 0.3, lambda rng: dead, False, ""), ("shorts the pair", 0.2, path(f"{name}.short", 1.0, 15.0), True, "")]
    if family == "bus_end":
        return [("open", 0.3, opened(name), False, "")]
    if family in ("hall_sensor", "serial_sensor"):
        output = f"{name}.output"
        rows = [
            ("dead", 1.2, cut(output), False, ""), ("loads its supply", 0.2, path(f"{name}.supply", 0.1, 5.0), True, ""),
            ("holds low", 0.5, path(output, part.on_ohm * 0.9, part.on_ohm * 1.1), False, ""),  # type: ignore[attr-defined]
        ]  # fmt: skip
        return [*rows, *([("gap", 0.5, cut(output), False, SYSTEM)] if senses else [])]
    if family == "active_sensor":
        output = f"{name}.output"
        rows = [
            ("dead", 1.2, cut(output), False, ""), ("loads its supply", 0.2, path(f"{name}.supply", 0.1, 5.0), True, ""),
            ("reads low", 1.0, source(output, 0.1, 0.88), True, ""), ("reads high", 0.4, source(output, 1.12, 1.7), True, ""),
        ]  # fmt: skip
        return [*rows, *([("really low", 0.6, source(output, 0.3, 0.88), True, SYSTEM)] if senses else [])]
    if family in ("variable_reluctance", "piezo"):
        rows = [("open", 1.2, opened(name), False, ""), ("turns", 0.5, scaled(name, 0.02, 0.65), True, "")]
        return [*rows, *([("weak signal", 0.6, source(name, 0.01, 0.4), True, SYSTEM)] if senses else [])]
    if family == "current_sensor":
        still = (Change(name, curve_parameters=((0, part.low_a),)),)  # type: ignore[attr-defined]
        rows = [
            ("open", 1.2, opened(f"{name}.lead"), False, ""), ("leaks", 0.5, path(f"{name}.leak", 100, 2e3), True, ""),
            ("stands still", 0.6, lambda rng: still, False, ""),
        ]  # fmt: skip
        return [*rows, *([("gap", 0.6, lambda rng: still, False, SYSTEM)] if senses else [])]
    if family == "oxygen_sensor":
        rows = [
            ("open", 0.8, opened(name), False, ""), ("aged", 1.2, source(name, 0.02, 0.5), True, ""),
            ("slow", 0.6, series(name, 2e4, 3e5), True, ""),
        ]  # fmt: skip
        return [*rows, *([("really lean", 0.8, source(name, 0.02, 0.5), True, SYSTEM)] if senses else [])]
    if family == "dual_track":
        rows = []
        for track in ("1", "2"):
            upper, lower = f"{name}.upper{track}", f"{name}.lower{track}"
            rows += [
                ("wiper", 0.8, opened(f"{name}.wiper{track}"), False, ""), ("track broken", 0.2, opened(upper), False, ""),
                ("track broken", 0.2, opened(lower), False, ""), ("track worn", 0.3, scaled(lower, 0.3, 0.7), True, ""),
                ("track worn", 0.3, scaled(lower, 1.4, 2.2), True, ""),
            ]  # fmt: skip
        return rows
    if family == "ntc":
        return [
            ("open", 1.5, opened(name), False, ""), ("low", 0.7, scaled(name, 0.02, 0.65), True, ""),
            ("high", 0.6, scaled(name, 1.5, 12.0), True, ""),
        ]  # fmt: skip
    raise ValueError(f"no troubles are listed for the family {family!r}: add its rows to benchmarks/catalogue.py")


def troubles(circuit: Circuit) -> list[Trouble]:
    """Everything of the document that can go wrong, wiring included."""
    found = []
    for name, part in circuit.parts.items():
        if isinstance(part, Plug):
            continue  # see ``between_neighbours``
        for manner, weight, draw, graded, ending in _rows(name, part):
            unit = name + ending if ending else (part.module or name)
            found.append(
                Trouble(f"{part.family}: {manner}", frozenset({unit}), weight * part.rate if part.family != "contact" else weight,  # type: ignore[attr-defined]
                        draw, graded=graded)
            )  # fmt: skip
    return found


def between_neighbours(circuit: Circuit) -> Iterator[Trouble]:
    """Water or a bent pin between two cavities of one plug, two wires chafed together, two cavities exchanged, a short to a reference."""
    wire_at = {end.removesuffix("/c"): name for name, wire in circuit.document.wires.items() for end in (wire.from_, wire.to)}
    for connector, spec in circuit.document.connectors.items():
        cavities = list(spec.cavities)
        if spec.restraint:
            continue
        for one, two in itertools.pairwise(cavities):
            a, b = f"{connector}.{one}", f"{connector}.{two}"
            if circuit.node(a) == circuit.node(b):
                continue
            contacts = frozenset({a, b, connector})
            yield Trouble("bridge between cavities", contacts, 0.3, path(f"{a}~{b}", 0.1, 1e3), ((f"{a}~{b}", a, b),), graded=True)
            wires = frozenset(name for name in (wire_at.get(a), wire_at.get(b)) if name)
            if len(wires) == 2:
                yield Trouble(
                    "two wires chafed together",
                    wires | contacts,
                    0.2,
                    path(f"{a}#{b}", 0.1, 10.0),
                    ((f"{a}#{b}", a, b),),
                    graded=True,
                )
            crossed = (
                Change(a, add_ohm=OPEN_OHM), Change(b, add_ohm=OPEN_OHM), Change(f"{a}x{b}", set_ohm=0.003), Change(f"{b}x{a}", set_ohm=0.003),
            )  # fmt: skip
            yield Trouble(
                "cavities exchanged", contacts | wires, 0.1, lambda rng, crossed=crossed: crossed,  # type: ignore[misc]
                ((f"{a}x{b}", a, f"{b}/c"), (f"{b}x{a}", b, f"{a}/c")),
            )  # fmt: skip


def off_the_drawing(circuit: Circuit) -> Iterator[Trouble]:
    """What no list of single faults of the document holds: added loads, bridges across plugs, harnesses crossed at different plugs,
    a wrong part fitted."""
    nodes = {ref: point.node for ref, point in circuit.points.items() if point.connector is not None and not ref.endswith("/c")}
    refs = sorted(nodes)
    wires_at: dict[str, set[str]] = {}
    for name, wire in circuit.document.wires.items():
        for end in (wire.from_, wire.to):
            wires_at.setdefault(end.removesuffix("/c"), set()).add(name)

    def near(*points: str) -> frozenset[str]:
        owners = {ref for point in points for ref in (point, point.split(".")[0], *wires_at.get(point, ()))}
        for point in points:
            connector, cavity = point.split(".", 1)
            owners |= {t.split(".")[0] for t in behind(circuit.document.connectors[connector].cavities[cavity])}
        return frozenset(owner for owner in owners if owner)

    for ref in refs:
        if nodes[ref] == CHASSIS:
            continue
        yield Trouble("added load", near(ref), 1.0, path(f"{ref}+load", 3.0, 60.0), ((f"{ref}+load", ref, CHASSIS),), graded=True)
    for index, one in enumerate(refs):
        for two in refs[index + 1 :]:
            if one.split(".")[0] != two.split(".")[0] and nodes[one] != nodes[two]:
                yield Trouble(
                    "bridge across plugs",
                    near(one, two),
                    2.0 / len(refs),
                    path(f"{one}~~{two}", 0.1, 300.0),
                    ((f"{one}~~{two}", one, two),),
                    graded=True,
                )
    wires = list(circuit.document.wires.items())
    for index, (first, a) in enumerate(wires):
        for second, b in wires[index + 1 :]:
            if len({circuit.node(x) for x in (a.from_, a.to, b.from_, b.to)}) == 4:
                crossed = (
                    Change(first, add_ohm=OPEN_OHM), Change(second, add_ohm=OPEN_OHM),
                    Change(f"{first}x{second}", set_ohm=0.02), Change(f"{second}x{first}", set_ohm=0.02),
                )  # fmt: skip
                ends = {end.removesuffix("/c") for wire in (a, b) for end in (wire.from_, wire.to)}
                plugs = {end.split(".")[0] for wire in (a,) for end in (wire.from_, wire.to)} & {
                    end.split(".")[0] for end in (b.from_, b.to)
                }  # crossed in a plug that both go to: that is the place
                contacts = {end for end in ends if end.split(".")[0] in plugs}
                yield Trouble(
                    "harness crossed", frozenset({first, second}) | plugs | contacts, 1.0 / len(wires), lambda rng, crossed=crossed: crossed,  # type: ignore[misc]
                    ((f"{first}x{second}", a.from_, b.to), (f"{second}x{first}", b.from_, a.to)),
                )  # fmt: skip
    for name, part in circuit.parts.items():
        if part.family in ("solenoid", "gauge", "resistor", "ntc", "variable_reluctance"):  # type: ignore[attr-defined]

            def wrong(rng: np.random.Generator, name: str = name) -> tuple[Change, ...]:
                return (Change(name, scale=float(rng.choice([rng.uniform(0.3, 0.6), rng.uniform(1.8, 4.0)]))),)

            yield Trouble("wrong part fitted", frozenset({name}), 1.0, wrong, graded=True)
