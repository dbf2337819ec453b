"""Current–voltage curves of parts that are not resistors, vectorised, each with its slope for Newton's method.

All curves are odd or one-sided, continuous and never fall with voltage, so a network of them and of positive
resistors has exactly one operating point.

Parameter order (SI units):
    lamp   (rated_v, hot_ohm, cold_ratio)
    motor  (armature_ohm, curvature 1/V², friction_a), ``curvature`` in A/V²
    diode  (knee_v, on_ohm, off_ohm)
    sink   (current_a, knee_v, unused)
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]


def lamp_current(volts: Array, rated_v: Array, hot_ohm: Array, cold_ratio: Array) -> tuple[Array, Array]:
    """Steady current and slope of a tungsten filament.

    R(V)² = R_cold² + (R_hot² − R_cold²)·(|V|/V_rated)^0.9, so that I ∝ V^0.55 when hot, the usual exponent for
    gas-filled lamps (IES Lighting Handbook, lamp characteristic exponents), and R = R_cold when dark.
    """
    cold2 = (hot_ohm * cold_ratio) ** 2
    rise = (hot_ohm**2 - cold2) / rated_v**0.9
    hotter = rise * (np.abs(volts) + 1e-12) ** 0.9
    ohm2 = cold2 + hotter
    ohm = np.sqrt(ohm2)
    return volts / ohm, 1.0 / ohm - 0.45 * hotter / (ohm * ohm2)


def motor_current(volts: Array, armature_ohm: Array, curvature: Array, friction_a: Array) -> tuple[Array, Array]:
    """Steady current and slope of a permanent-magnet DC motor whose load torque grows with speed squared.

    Torque k·I = friction + c·ω² and V = I·R + k·ω (any electrical machines text, e.g. Fitzgerald, ch. 7). With
    back-EMF E = k·ω: I = I_f + β·E², hence β·R·E² + E − (V − R·I_f) = 0. Below V = R·I_f it stands still: I = V/R.
    """
    size = np.abs(volts)
    spare = np.maximum(size - armature_ohm * friction_a, 0.0)
    a = curvature * armature_ohm
    root = np.sqrt(1.0 + 4.0 * a * spare)
    back_emf = 2.0 * spare / (1.0 + root)
    current = (size - back_emf) / armature_ohm
    slope = np.where(spare > 0.0, 1.0 - 1.0 / root, 1.0) / armature_ohm
    return np.sign(volts) * current, np.maximum(slope, 1e-9)


def diode_current(volts: Array, knee_v: Array, on_ohm: Array, off_ohm: Array) -> tuple[Array, Array]:
    """Piecewise-linear diode: leakage resistance below the knee, knee plus on-resistance above."""
    conducting = volts > knee_v
    current = volts / off_ohm + np.where(conducting, (volts - knee_v) / on_ohm, 0.0)
    return current, 1.0 / off_ohm + np.where(conducting, 1.0 / on_ohm, 0.0)


def sink_current(volts: Array, current_a: Array, knee_v: Array, _unused: Array) -> tuple[Array, Array]:
    """A part that takes a set current once it has enough voltage: I = I₀·tanh(V / V_k), as a bipolar current source saturates."""
    bend = np.tanh(volts / knee_v)
    return current_a * bend, np.maximum(current_a / knee_v * (1.0 - bend**2), 1e-12)


CURVES = {"lamp": lamp_current, "motor": motor_current, "diode": diode_current, "sink": sink_current}
