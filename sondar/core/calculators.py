"""The sums of the trade as small calculators: inputs with units, a formula with its source, results with units.

Each calculator is a pure function of SI numbers. The interface draws them from their description and knows no formula itself.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from sondar.core.circuit.families.harness import COPPER_OHM_MM2_PER_M
from sondar.core.circuit.model import COPPER_TEMPERATURE_COEFFICIENT, copper_resistance
from sondar.core.engine_air import FILLED, GAS_CONSTANT_AIR, KELVIN, by_trims, drawn_kg_s
from sondar.core.errors import QuantityError, UnknownReferenceError
from sondar.core.quantities import KM_PER_MILE, format_si, parse_entry

WATER_SEAL_CD = 0.61
"""Discharge coefficient of a sharp-edged orifice (ISO 5167-2)."""
ADIABATIC_EXPONENT_AIR = 1.4
AMBIENT_PA = 101_325.0
"""Standard atmosphere (ISO 2533)."""
CRITICAL_RATIO = (2.0 / (ADIABATIC_EXPONENT_AIR + 1.0)) ** (ADIABATIC_EXPONENT_AIR / (ADIABATIC_EXPONENT_AIR - 1.0))
"""Pressure after a hole over that before it, at and below which the flow is choked: 0.528."""

PASCAL = {"Pa": 1.0, "kPa": 1e3, "bar": 1e5, "mbar": 1e2, "psi": 6894.757, "mmH2O": 9.80665, "inHg": 3386.389}
"""Pressure units in pascal (NIST SP 811, appendix B.8)."""


@dataclass(frozen=True)
class Input:
    """One field of a calculator; ``optional`` ones may stay empty."""

    name: str
    label: str
    unit: str
    default: str = ""
    optional: bool = False


@dataclass(frozen=True)
class Result:
    """One line of an answer: SI value, or words where a number would mislead."""

    label: str
    value: float | None
    unit: str
    text: str


Values = Mapping[str, float]


@dataclass(frozen=True)
class Calculator:
    """One sum.

    Attributes:
        formula: in symbols; source: where it stands.
        drawing: what is drawn beside it, see the interface's ``Sketch``.
        compute: results from SI values; optional inputs may be missing.
    """

    id: str
    title: str
    formula: str
    source: str
    drawing: str
    inputs: tuple[Input, ...]
    compute: Callable[[Values], list[Result]] = field(repr=False)


def _result(label: str, value: float, unit: str) -> Result:
    return Result(label, value, unit, f"{value:.4g} {unit}".strip() if unit in PASCAL or unit in _PLAIN else format_si(value, unit))


_PLAIN = ("%", "°C", "km", "miles", "mm", "mm²", "L/min", "g/s", "AWG", "", "°F", "Hz", "s", "ms")


def _needs_positive(values: Values, *names: str) -> None:
    for name in names:
        if name in values and values[name] <= 0:
            raise QuantityError(f"{values[name]:g}", f"a value above 0 for {name}")


def _source_resistance(v: Values) -> list[Result]:
    _needs_positive(v, "amps")
    sag = v["open"] - v["loaded"]
    if sag < 0:
        raise QuantityError(
            f"{v['loaded']:g}", "a voltage with load that is not above that without: exchange the two, or read both again"
        )
    return [
        _result("Voltage lost", sag, "V"),
        _result("Source resistance", sag / v["amps"], "Ω"),
        _result("Heat in it", sag * v["amps"], "W"),
    ]


def _divider(v: Values) -> list[Result]:
    _needs_positive(v, "top", "bottom")
    found = [_result("Voltage at the middle", v["supply"] * v["bottom"] / (v["top"] + v["bottom"]), "V")]
    if "meter" in v:
        _needs_positive(v, "meter")
        loaded = v["bottom"] * v["meter"] / (v["bottom"] + v["meter"])
        found.append(_result("What a meter of that resistance shows", v["supply"] * loaded / (v["top"] + loaded), "V"))
    return found


def _pull_up(v: Values) -> list[Result]:
    _needs_positive(v, "pull")
    if not 0 <= v["signal"] < v["supply"]:
        raise QuantityError(f"{v['signal']:g}", "a signal from 0 V to below the supply")
    return [_result("Resistance to ground behind the pin", v["pull"] * v["signal"] / (v["supply"] - v["signal"]), "Ω")]


def _ohm(v: Values) -> list[Result]:
    known = {name: v[name] for name in ("volts", "amps", "ohms", "watts") if name in v}
    if len(known) != 2:
        raise QuantityError(", ".join(known) or "nothing", "exactly two of volts, amps, ohms, watts")
    _needs_positive(v, "ohms")
    match sorted(known):
        case ["amps", "volts"]:
            volts, amps = v["volts"], v["amps"]
        case ["ohms", "volts"]:
            volts, amps = v["volts"], v["volts"] / v["ohms"]
        case ["volts", "watts"]:
            volts, amps = v["volts"], _over(v["watts"], v["volts"])
        case ["amps", "ohms"]:
            volts, amps = v["amps"] * v["ohms"], v["amps"]
        case ["amps", "watts"]:
            volts, amps = _over(v["watts"], v["amps"]), v["amps"]
        case _:
            amps = math.sqrt(max(v["watts"], 0.0) / v["ohms"])
            volts = amps * v["ohms"]
    return [
        _result("Voltage", volts, "V"), _result("Current", amps, "A"), _result("Resistance", _over(volts, amps), "Ω"),
        _result("Power", volts * amps, "W"),
    ]  # fmt: skip


def _over(top: float, bottom: float) -> float:
    if bottom == 0:
        raise QuantityError("0", "a value other than 0 to divide by")
    return top / bottom


def _copper(v: Values) -> list[Result]:
    _needs_positive(v, "ohms")
    at_20 = v["ohms"] / (1.0 + COPPER_TEMPERATURE_COEFFICIENT * (v["at"] - 20.0))
    found = [_result("At 20 °C", at_20, "Ω"), _result("At the other temperature", copper_resistance(at_20, v["to"]), "Ω")]
    if "now" in v:
        warm = 20.0 + (v["now"] / at_20 - 1.0) / COPPER_TEMPERATURE_COEFFICIENT
        found.append(_result("Temperature of the winding now", warm, "°C"))
    return found


def _ntc(v: Values) -> list[Result]:
    _needs_positive(v, "r25", "beta")
    found = []
    if "at" in v:
        ohms = v["r25"] * math.exp(v["beta"] * (1.0 / (v["at"] + KELVIN) - 1.0 / (25.0 + KELVIN)))
        found.append(_result("Resistance at that temperature", ohms, "Ω"))
    if "ohms" in v:
        _needs_positive(v, "ohms")
        kelvin = 1.0 / (1.0 / (25.0 + KELVIN) + math.log(v["ohms"] / v["r25"]) / v["beta"])
        found.append(_result("Temperature at that resistance", kelvin - KELVIN, "°C"))
    if not found:
        raise QuantityError("nothing", "a temperature or a resistance")
    return found


def _ratiometric(v: Values) -> list[Result]:
    _needs_positive(v, "reference")
    share = v["signal"] / v["reference"]
    found = [_result("Share of the reference", 100.0 * share, "%"), _result("Signal at 5.00 V reference", 5.0 * share, "V")]
    span = v["share_high"] - v["share_low"]
    if span == 0:
        raise QuantityError("0", "two different shares for the ends of the range")
    reach = (100.0 * share - v["share_low"]) / span
    value = v["low"] + reach * (v["high"] - v["low"])
    found.append(Result("Measured quantity", value, "", f"{value:.4g}"))
    return found


def _pulse(v: Values) -> list[Result]:
    if not 0 <= v["duty"] <= 100:
        raise QuantityError(f"{v['duty']:g}", "a duty from 0 to 100 %")
    _needs_positive(v, "hertz")
    share = v["duty"] / 100.0
    mean = v["low"] + share * (v["high"] - v["low"])
    ac = abs(v["high"] - v["low"]) * math.sqrt(share * (1.0 - share))
    return [
        _result("What a DC meter shows", mean, "V"), _result("What an AC meter shows", ac, "V"),
        _result("Effective (lamp, heater)", math.sqrt(mean**2 + ac**2), "V"), _result("High for", 1e3 * share / v["hertz"], "ms"),
        _result("One period", 1e3 / v["hertz"], "ms"),
    ]  # fmt: skip


def _parallel(v: Values) -> list[Result]:
    listed = [v[name] for name in ("one", "two", "three", "four") if name in v]
    if len(listed) < 2:
        raise QuantityError(str(len(listed)), "at least two resistances")
    _needs_positive(v, "one", "two", "three", "four")
    together = 1.0 / sum(1.0 / ohms for ohms in listed)
    found = [_result("Together", together, "Ω")]
    if "seen" in v and v["seen"] < together:
        _needs_positive(v, "seen")
        found.append(_result("Another path of", 1.0 / (1.0 / v["seen"] - 1.0 / together), "Ω"))
    elif "seen" in v:
        found.append(Result("Another path", None, "", "none: what is measured is not below what they make together"))
    return found


def _meter_error(v: Values) -> list[Result]:
    bound = v["percent"] / 100.0 * abs(v["reading"]) + v["counts"] * v["digit"]
    return [
        Result("May be off by", bound, "", f"± {bound:.4g}"),
        Result("Standard uncertainty", bound / math.sqrt(3.0), "", f"{bound / math.sqrt(3.0):.4g}"),
        Result("True value between", None, "", f"{v['reading'] - bound:.5g} and {v['reading'] + bound:.5g}"),
    ]


def _wire(v: Values) -> list[Result]:
    _needs_positive(v, "mm2", "length")
    ohms = copper_resistance(COPPER_OHM_MM2_PER_M * v["length"] / v["mm2"], v["at"])
    diameter_mm = math.sqrt(4.0 * v["mm2"] / math.pi)
    awg = 36.0 - 39.0 * math.log(diameter_mm / 0.127, 92.0)  # ASTM B258: d = 0.127 mm · 92^((36 − n)/39)
    found = [_result("Resistance of the wire", ohms, "Ω"), Result("Nearest gauge", round(awg), "AWG", f"{round(awg)} AWG")]
    if "amps" in v:
        found += [_result("Voltage lost in it", ohms * v["amps"], "V"), _result("Heat in it", ohms * v["amps"] ** 2, "W")]
    return found


def _orifice(v: Values) -> list[Result]:
    _needs_positive(v, "diameter_mm", "pressure")
    area = math.pi * (v["diameter_mm"] * 1e-3) ** 2 / 4.0
    ambient_density = AMBIENT_PA / (GAS_CONSTANT_AIR * (v["at"] + KELVIN))
    per_area = _mass_flow_per_area(AMBIENT_PA + v["pressure"], AMBIENT_PA, v["at"] + KELVIN)
    flow = area * per_area
    found = [_result("Air through the hole", flow / ambient_density * 6e4, "L/min"), _result("By mass", flow * 1e3, "g/s")]
    if "flow" in v:
        _needs_positive(v, "flow")
        hole = math.sqrt(4.0 * v["flow"] / 6e4 * ambient_density / (math.pi * per_area))
        found.append(_result("Hole for the measured flow", hole * 1e3, "mm"))
    if AMBIENT_PA / (AMBIENT_PA + v["pressure"]) <= CRITICAL_RATIO:
        found.append(Result("Choked", None, "", "sound speed in the hole: flow follows the pressure before it alone"))
    return found


def _mass_flow_per_area(before_pa: float, after_pa: float, kelvin: float) -> float:
    """Mass flow of air per area of a hole, kg/(s·m²), from absolute pressures (Saint-Venant and Wantzel; ISO 9300 where it chokes)."""
    gamma = ADIABATIC_EXPONENT_AIR
    ratio = max(after_pa / before_pa, CRITICAL_RATIO)
    expansion = ratio ** (2.0 / gamma) - ratio ** ((gamma + 1.0) / gamma)
    return WATER_SEAL_CD * before_pa * math.sqrt(2.0 * gamma / ((gamma - 1.0) * GAS_CONSTANT_AIR * kelvin) * expansion)


def _leak_rate(v: Values) -> list[Result]:
    _needs_positive(v, "litres", "seconds")
    if ("at_before" in v) != ("at_after" in v):
        raise QuantityError("one temperature", "both temperatures, or neither")
    lost, found = v["before"] - v["after"], []
    if "at_before" in v:
        # What the air would show had it kept its temperature: absolute pressure follows absolute temperature (Gay-Lussac).
        same = (AMBIENT_PA + v["after"]) * (v["at_before"] + KELVIN) / (v["at_after"] + KELVIN) - AMBIENT_PA
        found.append(_result("After, at the first temperature", same, "Pa"))
        lost = v["before"] - same
    rate = v["litres"] * 1e-3 * lost / v["seconds"]
    return [
        *found,
        Result("Leak rate", rate, "Pa·m³/s", f"{rate:.3g} Pa·m³/s"),
        _result("As air at ambient pressure", rate / AMBIENT_PA * 6e4, "L/min"),
    ]


def _units(v: Values) -> list[Result]:
    if not v:
        raise QuantityError("nothing", "one value to convert")
    found = []
    if "pressure" in v:
        found += [_result(unit, v["pressure"] / pascal, unit) for unit, pascal in PASCAL.items()]
    if "celsius" in v:
        found.append(_result("In Fahrenheit", v["celsius"] * 1.8 + 32.0, "°F"))
    if "km" in v:
        found.append(_result("In miles", v["km"] / KM_PER_MILE, "miles"))
    if "mm" in v:
        found.append(Result("In inches", v["mm"] / 25.4, "", f"{v['mm'] / 25.4:.4g} in"))
    if "nm" in v:
        found.append(Result("In pound-feet", v["nm"] / 1.355818, "", f"{v['nm'] / 1.355818:.4g} lb·ft"))
    return found


def _air_mass(v: Values) -> list[Result]:
    _needs_positive(v, "litres", "rpm", "kpa", "measured")
    low, high = (1e3 * drawn_kg_s(1e-3 * v["litres"], v["rpm"], 1e3 * v["kpa"], v["at"], share) for share in FILLED)
    found = [Result("Expected", (low + high) / 2.0, "g/s", f"{low:.3g} … {high:.3g} g/s")]
    if "measured" in v:
        seen = v["measured"]
        words = "as expected"
        if seen < low:
            words = f"{100 * (1 - seen / low):.0f} % below: read too low (dirty film), or air enters behind the sensor"
        elif seen > high:
            words = f"{100 * (seen / high - 1):.0f} % above: read too high, or the engine is boosted, or pressure or displacement is not right"
        found.append(Result("Shown", seen, "g/s", words))
    return found


def _trims(v: Values) -> list[Result]:
    found = by_trims(v["idle"], v["part"], v["load"])
    return [Result("Points to", None, "", found.words), Result("Because", None, "", found.because)]


CALCULATORS: Mapping[str, Calculator] = {
    calculator.id: calculator
    for calculator in (
        Calculator(
            "source-resistance", "Voltage drop and source resistance", "R = (U₀ − U) ÷ I", "Thévenin's theorem; I is the tester's own current",
            "source", (Input("open", "Without load", "V", "12.4"), Input("loaded", "With load", "V", "11.8"),
                       Input("amps", "Load current", "A", "1.0")), _source_resistance),
        Calculator(
            "divider", "Divider, and the meter on it", "U = U₀·R₂ ÷ (R₁ + R₂)", "Kirchhoff's laws", "divider",
            (Input("supply", "Supply", "V", "5"), Input("top", "Upper resistor", "Ω", "2k2"), Input("bottom", "Lower resistor", "Ω", "2k2"),
             Input("meter", "Meter", "Ω", "10M", True)), _divider),
        Calculator(
            "pull-up", "Resistance behind a pull-up", "R = R_p·U ÷ (U₀ − U)", "Kirchhoff's laws", "pull-up",
            (Input("supply", "Pull-up voltage", "V", "5"), Input("pull", "Pull-up resistor", "Ω", "2k2"),
             Input("signal", "Voltage at the pin", "V", "2.5")), _pull_up),
        Calculator(
            "ohm", "Ohm and power", "U = R·I,  P = U·I", "Ohm's law; give any two", "load",
            (Input("volts", "Voltage", "V", "12", True), Input("amps", "Current", "A", "", True), Input("ohms", "Resistance", "Ω", "", True),
             Input("watts", "Power", "W", "21", True)), _ohm),
        Calculator(
            "copper", "Copper winding and temperature", "R = R₂₀·(1 + 0.00393·(T − 20))", "IEC 60028", "coil",
            (Input("ohms", "Resistance", "Ω", "82"), Input("at", "at", "°C", "20"), Input("to", "and at", "°C", "80"),
             Input("now", "Resistance warm", "Ω", "", True)), _copper),
        Calculator(
            "ntc", "Thermistor and temperature", "R = R₂₅·exp(B·(1/T − 1/298.15 K))", "B-parameter equation, IEC 60539-1", "ntc",
            (Input("r25", "Resistance at 25 °C", "Ω", "2k2"), Input("beta", "B", "", "3540"), Input("at", "Temperature", "°C", "20", True),
             Input("ohms", "or resistance", "Ω", "", True)), _ntc),
        Calculator(
            "ratiometric", "Sensor on a reference", "share = U ÷ U_ref", "output proportional to the reference just measured", "ratio",
            (Input("signal", "Signal", "V", "1.52"), Input("reference", "Reference", "V", "4.98"),
                Input("share_low", "Share at the low end", "%", "10"),
             Input("share_high", "Share at the high end", "%", "90"), Input("low", "Low end", "", "0"), Input("high", "High end", "", "250")),
            _ratiometric),
        Calculator(
            "pulse", "Duty, frequency and mean", "Ū = U_L + D·(U_H − U_L),  U~ = (U_H − U_L)·√(D·(1 − D))", "mean and RMS of a rectangle",
            "pulse", (Input("high", "High level", "V", "13.8"), Input("low", "Low level", "V", "0.3"), Input("duty", "High for", "%", "40"),
                      Input("hertz", "Frequency", "Hz", "100")), _pulse),
        Calculator(
            "parallel", "Parallel paths", "1/R = 1/R₁ + 1/R₂ + …", "Kirchhoff's laws", "parallel",
            (Input("one", "First", "Ω", "120"), Input("two", "Second", "Ω", "120", True), Input("three", "Third", "Ω", "", True),
             Input("four", "Fourth", "Ω", "", True), Input("seen", "What the meter shows", "Ω", "", True)), _parallel),
        Calculator(
            "meter-error", "Meter error", "± (p·reading + n·digit)", "accuracy as meters state it; rectangle to standard: ÷√3, GUM 4.3.7",
            "error", (Input("reading", "Reading", "", "12.40"), Input("percent", "Accuracy", "%", "0.5"), Input("counts", "plus counts", "", "2"),
                      Input("digit", "one count is", "", "0.01")), _meter_error),
        Calculator(
            "wire", "Wire gauge and length to ohms", "R = 0.0178·l ÷ A·(1 + 0.00393·(T − 20))", "ISO 6722 copper; AWG after ASTM B258", "wire",
            (Input("mm2", "Cross-section in mm²", "", "0.5"), Input("length", "Length in metres", "", "3"), Input("at", "at", "°C", "20"),
             Input("amps", "Current", "A", "5", True)), _wire),
        Calculator(
            "orifice", "Hole and air flow", "ṁ = C_d·A·p₁·√(2κ ÷ ((κ − 1)·R·T)·(r^(2/κ) − r^((κ+1)/κ))), r = p₂ ÷ p₁ ≥ 0.528, C_d = 0.61",
            "Saint-Venant and Wantzel; choked flow as in ISO 9300; into ambient air", "orifice",
            (Input("diameter_mm", "Diameter in mm", "", "0.5"), Input("pressure", "Pressure in Pa", "", "2500"), Input("at", "Air at", "°C", "20"),
             Input("flow", "Measured flow in L/min", "", "", True)), _orifice),
        Calculator(
            "leak-rate", "Leak rate from a hold test", "q = V·(p₁ − p₂·T₁ ÷ T₂) ÷ t", "ISO 20484, pressure change; ideal gas", "hold",
            (Input("litres", "Volume in litres", "", "20"), Input("before", "Pressure before in Pa", "", "2500"),
             Input("after", "after in Pa", "", "2100"), Input("seconds", "Seconds", "", "120"),
             Input("at_before", "Air before", "°C", "", True), Input("at_after", "Air after", "°C", "", True)), _leak_rate),
        Calculator(
            "air-mass", "Expected air mass", "ṁ = η·V·n ÷ 120·p ÷ (R·T), η = 0.75 … 0.95",
            "speed-density, Heywood, eq. 2.27; four-stroke, not boosted", "air",
            (Input("litres", "Displacement in litres", "", "1.6"), Input("rpm", "Speed in 1/min", "", "800"),
                     Input("kpa", "Manifold pressure, absolute, in kPa", "", "35"), Input("at", "Air in the manifold", "°C", "40"),
                     Input("measured", "Air mass shown in g/s", "", "", True)), _air_mass),
        Calculator(
            "trims", "Fuel trims over load", "unmeasured air shrinks with flow, dirty film and low fuel pressure grow", "balance of air and fuel",
            "trims",
            (Input("idle", "At idle", "%", "18"), Input("part", "At part load", "%", "6"), Input("load", "At load", "%", "2")), _trims),
        Calculator(
            "units", "Units", "exact factors", "NIST SP 811", "units",
            (Input("pressure", "Pressure in Pa", "", "100000", True), Input("celsius", "Temperature", "°C", "", True),
             Input("km", "Kilometres", "", "", True), Input("mm", "Millimetres", "", "", True),
                Input("nm", "Newton metres", "", "", True)), _units),
    )
}  # fmt: skip


def work_out(calculator_id: str, typed: Mapping[str, str]) -> list[Result]:
    """Results of a calculator from what was typed into its fields.

    Raises:
        UnknownReferenceError: no such calculator or field.
        QuantityError: a field that is missing or no number, a value outside what the formula holds for.
    """
    if calculator_id not in CALCULATORS:
        raise UnknownReferenceError("calculator", calculator_id, list(CALCULATORS))
    calculator = CALCULATORS[calculator_id]
    known = {item.name for item in calculator.inputs}
    for name in typed:
        if name not in known:
            raise UnknownReferenceError("field", name, sorted(known))
    values = {}
    for item in calculator.inputs:
        text = typed.get(item.name, "").strip()
        if not text:
            if not item.optional:
                raise QuantityError("nothing", f"a value for {item.label.lower()}")
            continue
        entry = parse_entry(text)
        if entry.value is None:
            raise QuantityError(text, f"a number for {item.label.lower()}")
        if entry.unit and item.unit and entry.unit != item.unit:
            raise QuantityError(text, f"{item.unit} for {item.label.lower()}")
        values[item.name] = entry.value
    return calculator.compute(values)
