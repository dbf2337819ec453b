"""Batched operating points: set-up × parameter sample × hypothesis × probe pair, in a few matrix products.

Method. Modified nodal equations (Ho, Ruehli and Brennan, 1975) in symmetric form, M·x = s with x = (node voltages,
branch currents): resistances up to ``IMPEDANCE_FORM_OHM`` and all sources keep their current as an unknown, so that an
*added series resistance* is a change of one diagonal entry; higher resistances and paths that only a fault makes are
conductances between two nodes. Every change is then M' = M + Σ δ·w·wᵀ, a rank-one term per changed branch, and a
hypothesis costs a k×k solve (Woodbury identity) instead of a factorisation. In this dual form all terms of the update
add with the same sign, so an open wire (100 MΩ on 10 mΩ) loses no digits.

Ports. Everything that can change, conduct by a curve, or be probed is a *port*, a vector w. One solve per sample gives
B = Wᵀ·M⁻¹·W and W ᵀ·x, and all further work is in the space of ports. Array layouts, throughout:

    S samples (0 is the nominal vehicle), H hypotheses, K changed ports, L curve ports, P probe pairs.

Laws (lamp, motor, diode) are solved by Newton's method on the Thévenin equivalent at their ports; relay contacts and
fuses are states iterated until they agree with the currents. The leakage of ``LEAK_SIEMENS`` per node makes isolated
sections solvable; whether a point *floats* is told from its Thévenin resistance, never from a magic voltage.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.errors import UnsolvableNetworkError
from sondar.core.solving.changes import Changes
from sondar.core.solving.curves import CURVES
from sondar.core.solving.operating_points import SAMPLES, Array, Hypothesis, Mask, OperatingPoints, Pair, Waves
from sondar.core.solving.ports import PortNetwork, curve_floor

_STATE_ROUNDS = 8
_NEWTON_ROUNDS = 80


def solve_waves(
    circuit: Circuit, setup: Setup, pairs: Sequence[Pair], hypotheses: Sequence[Hypothesis], blown: Mask, *,
    samples: int = SAMPLES, deviates: dict[str, float] | None = None, flows: Sequence[str] = (),
) -> Waves:  # fmt: skip
    """Solve every switching state of a set-up; see ``SetupSolver`` and ``Circuit.phases``."""
    phases = circuit.phases(setup)
    states = tuple(SetupSolver(circuit, instant, pairs, samples, deviates, flows).solve(hypotheses, blown) for _, instant in phases)
    frequencies = circuit.pulse_frequencies_hz(setup) if len(phases) > 1 else {}
    return Waves(states, tuple(share for share, _ in phases), tuple(dict(instant.pulses) for _, instant in phases), frequencies)


class SetupSolver(PortNetwork):
    """One circuit in one set-up; relay contacts and fuses are states iterated until they agree with the currents."""

    def solve(self, hypotheses: Sequence[Hypothesis], blown: Mask | None = None) -> OperatingPoints:
        """Operating points of every hypothesis; ``blown`` (H, n_fuses) marks fuses that have opened.

        Raises:
            UnsolvableNetworkError: a curve did not converge (does not happen for rising curves).
        """
        count = len(hypotheses)
        if blown is None:
            blown = np.zeros((count, len(self.fuses)), dtype=bool)
        shape = (self.samples, count)
        result = OperatingPoints(
            np.empty((*shape, len(self.pairs))), np.empty((*shape, len(self.pairs))),
            np.zeros((*shape, len(self.fuses))), np.zeros((*shape, len(self.contacts))),
            np.zeros((*shape, len(self.flows))), np.ones(count, dtype=bool),
        )  # fmt: skip
        # Contacts start as the healthy nominal vehicle has them; each hypothesis moves on from there.
        start = self._healthy_contacts()
        state = np.broadcast_to(np.array(start, dtype=bool), (*shape, len(start))).copy()
        todo = np.arange(count)
        for _ in range(_STATE_ROUNDS):
            wrong = []
            for base in sorted(tuple(bool(v) for v in row) for row in np.unique(state[0, todo], axis=0)):
                rows = todo[(state[0, todo] == np.array(base, dtype=bool)).all(axis=1)]
                part = self._solve_states(
                    Changes(self, self.ports(base), [hypotheses[h] for h in rows]), state[:, rows], base, blown[rows]
                )
                for name in ("volts", "ohms", "fuse_amps", "coil_amps", "flow_amps"):
                    getattr(result, name)[:, rows] = getattr(part, name)
                wanted = (np.abs(part.coil_amps) >= self.pull_in) != self.closed_at_rest
                wrong.append(rows[(wanted != state[:, rows]).any(axis=(0, 2))])
                state[:, rows] = wanted
            todo = np.sort(np.concatenate(wrong)) if wrong else todo[:0]
            if not todo.size:
                break
        result.settled[todo] = False
        return result

    def _healthy_contacts(self) -> tuple[bool, ...]:
        state = tuple(bool(v) for v in self.closed_at_rest)
        for _ in range(_STATE_ROUNDS):
            if not state:
                break
            flags = np.broadcast_to(np.array(state, dtype=bool), (self.samples, 1, len(state)))
            none_blown = np.zeros((1, len(self.fuses)), dtype=bool)
            amps = self._solve_states(Changes(self, self.ports(state), [()]), flags, state, none_blown).coil_amps[0, 0]
            wanted = tuple(bool(v) for v in (np.abs(amps) >= self.pull_in) != self.closed_at_rest)
            if wanted == state:
                break
            state = wanted
        return state

    def _solve_states(self, changes: Changes, state: Mask, base: tuple[bool, ...], blown: Mask) -> OperatingPoints:
        port, delta = changes.select(state, base, blown)  # (H, K), (S, H, K)
        matrix = changes.ports.matrix
        opened = changes.lifted()  # (S, H, Q)
        inner = matrix[:, port[:, :, None], port[:, None, :]]  # (S, H, K, K)
        eye = np.eye(port.shape[1])
        gain = small_solve(eye + delta[..., :, None] * inner, delta[..., :, None] * eye)  # (I + D·B)⁻¹·D
        at_changed = np.take_along_axis(opened, np.broadcast_to(port, (self.samples, *port.shape)), axis=2)
        # From here on only the ports that are looked at (O of them): pairs, fuses, coils, curves.
        pairs, fuses, coils = len(self.pairs), len(self.fuses), len(self.coils)
        pair = slice(0, pairs)
        curve = slice(pairs + fuses + coils + len(self.flows), None)
        seen = np.array(
            [*range(self.pair_port0, matrix.shape[1]), *self.fuses, *self.coils, *self.flows, *self.curve_branches], dtype=int
        )
        columns = matrix[:, seen][:, :, port].transpose(0, 2, 1, 3)  # (S, H, O, K)
        volts = opened[:, :, seen] - (columns @ (gain @ at_changed[..., None]))[..., 0]
        diagonal = np.einsum("sqq->sq", matrix)[:, None, self.pair_port0 :]
        through = columns @ gain  # (S, H, O, K)
        own = diagonal - np.einsum("shpk,shpk->shp", through[:, :, pair], columns[:, :, pair])
        if self.curve_branches:
            coupling = matrix[:, seen][:, None, :, self.curve_branches]
            across = coupling - through @ columns[:, :, curve].transpose(0, 1, 3, 2)  # (S, H, O, L)
            current, slope = self._solve_curves(changes, volts[:, :, curve], across[:, :, curve])
            volts = volts - (across @ current[..., None])[..., 0]
            eye = np.eye(len(self.curve_branches))
            damped = small_solve(eye + slope[..., :, None] * across[:, :, curve], slope[..., :, None] * eye)
            own = own - np.einsum("shpl,shpl->shp", across[:, :, pair] @ damped, across[:, :, pair])
        return OperatingPoints(
            volts[:, :, pair],
            np.maximum(own, 0.0),
            volts[:, :, pairs : pairs + fuses],
            volts[:, :, pairs + fuses : pairs + fuses + coils],
            volts[:, :, pairs + fuses + coils : curve.start],
            np.ones(len(port), dtype=bool),
        )

    def _solve_curves(self, changes: Changes, opened: Array, coupling: Array) -> tuple[Array, Array]:
        """Currents and slopes (S, H, L) at the ports of non-linear parts: u = U₀ − Z·i(u), damped Newton."""
        parameters = changes.curve_parameters  # (H, L, 3)
        volts = np.zeros_like(opened)
        eye = np.eye(opened.shape[2])

        def evaluate(u: Array) -> tuple[Array, Array]:
            current, slope = np.empty_like(u), np.empty_like(u)
            for l, branch in enumerate(self.curve_branches):
                curve = self.branches[branch].curve
                assert curve is not None
                amps, rise = CURVES[curve.kind](u[..., l], *(parameters[:, l, p] for p in range(3)))
                floor = curve_floor(curve)  # already in the linear network
                current[..., l], slope[..., l] = amps - floor * u[..., l], rise - floor
            return current, slope

        def residual(u: Array, current: Array) -> Array:
            difference: Array = u - opened + np.einsum("shlm,shm->shl", coupling, current)
            return difference

        current, slope = evaluate(volts)
        missing = residual(volts, current)
        for _ in range(_NEWTON_ROUNDS):
            step = small_solve(eye + coupling * slope[..., None, :], missing[..., None])[..., 0]
            size = np.ones((*step.shape[:2], 1))
            before = np.abs(missing).max(axis=2, keepdims=True)
            for _ in range(12):
                trial = volts - size * step
                current, slope = evaluate(trial)
                missing = residual(trial, current)
                worse = np.abs(missing).max(axis=2, keepdims=True) > before * (1.0 + 1e-12) + 1e-11
                if not worse.any():
                    break
                size = np.where(worse, size * 0.5, size)
            moved = np.abs(trial - volts)
            volts = trial
            if (moved <= 1e-10 + 1e-9 * np.abs(volts)).all():
                return current, slope
        if (np.abs(missing) > 1e-4 * (1.0 + np.abs(opened))).any():
            raise UnsolvableNetworkError(self.setup.describe(), "the non-linear parts did not settle")
        return current, slope


def small_solve(matrix: Array, right: Array) -> Array:
    """``numpy.linalg.solve`` over many (…, n, n) systems, by formula for n = 1 and 2, where calling LAPACK costs more than solving."""
    size = matrix.shape[-1]
    if size == 1:
        return np.asarray(right / matrix)
    if size == 2:
        a, b, c, d = matrix[..., 0, 0], matrix[..., 0, 1], matrix[..., 1, 0], matrix[..., 1, 1]
        determinant = (a * d - b * c)[..., None]
        top, bottom = right[..., 0, :], right[..., 1, :]
        first = (d[..., None] * top - b[..., None] * bottom) / determinant
        return np.stack([first, (a[..., None] * bottom - c[..., None] * top) / determinant], axis=-2)
    return np.asarray(np.linalg.solve(matrix, right))
