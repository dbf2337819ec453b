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

from collections.abc import Mapping, Sequence

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import Setup
from sondar.core.circuit.network import Circuit
from sondar.core.errors import UnsolvableNetworkError
from sondar.core.interruption import checkpoint
from sondar.core.solving.changes import Changes
from sondar.core.solving.curves import CURVES
from sondar.core.solving.operating_points import SAMPLES, Array, Hypothesis, Mask, OperatingPoints, Pair, Slopes, Waves
from sondar.core.solving.parameters import MANY_BRANCHES, SHARED, Directions, directions, parameter_names, sample_matrix
from sondar.core.solving.ports import PortNetwork, curve_floor

_STATE_ROUNDS = 8
SLOPES_AT_ONCE, SLOPES_ROWS = 5e7, 128
"""Hypotheses times what is looked at times branches up to which slopes are worked out at once; hypotheses at a time beyond."""
SAME_SHARE, LEAST_SCALE = 2e-3, 0.1
"""Share of a figure (of 0.1 V or A at least) by which hypotheses may differ there and still share its slopes in a large network."""
ROWS_OF_THEIR_OWN = 40
"""Hypotheses from which on another state of the relay contacts is worth a factorisation."""
_NEWTON_ROUNDS, _HALVINGS = 80, 30


def solve_waves(
    circuit: Circuit, setup: Setup, pairs: Sequence[Pair], hypotheses: Sequence[Hypothesis], blown: Mask, *,
    samples: int = SAMPLES, deviates: dict[str, float] | None = None, flows: Sequence[str] = (),
    parameters: Sequence[str] | None = None, scale: Mapping[str, float] | None = None,
) -> Waves:  # fmt: skip
    """Solve every switching state of a set-up; see ``SetupSolver`` and ``Circuit.phases``.

    Args:
        samples: vehicles by which tolerances are spread, the nominal one included: the network is solved for that one and followed
            along its slopes to the others. The last two vehicles are the nominal one moved by a unit of ``SHARED``.
        parameters: in place of sampled vehicles, one direction per parameter of these names; the states then have slopes.
        scale: factor on the deviates of single parameters in sampled vehicles.
    """
    phases = circuit.phases(setup)
    states = []
    for _, instant in phases:
        solver = SetupSolver(circuit, instant, pairs, 1, deviates, flows, changed_branches(hypotheses))
        if parameters is not None:
            states.append(solver.solve(hypotheses, blown, directions(circuit, instant, solver.branches, parameters)))
        elif samples > 1 and deviates is None:
            names = parameter_names(circuit, solver.branches)
            columns = [*names, *(name for name in SHARED if name not in names)]
            mixed = np.zeros((len(columns), samples - 1 + len(SHARED)))
            mixed[: len(names), : samples - 1] = sample_matrix(names, samples, scale or {})
            for index, name in enumerate(SHARED):
                mixed[columns.index(name), samples - 1 + index] = 1.0
            spread = directions(circuit, instant, solver.branches, columns).along(mixed)
            states.append(solver.solve(hypotheses, blown, spread).moved())
        else:
            states.append(solver.solve(hypotheses, blown))
    frequencies = circuit.pulse_frequencies_hz(setup) if len(phases) > 1 else {}
    return Waves(
        tuple(states), tuple(share for share, _ in phases), tuple(dict(instant.pulses) for _, instant in phases), frequencies
    )


def changed_branches(hypotheses: Sequence[Hypothesis]) -> frozenset[str]:
    """Branches that some hypothesis changes."""
    return frozenset(change.branch for changes in hypotheses for change in changes)


class SetupSolver(PortNetwork):
    """One circuit in one set-up; relay contacts and fuses are states iterated until they agree with the currents."""

    def solve(
        self, hypotheses: Sequence[Hypothesis], blown: Mask | None = None, along: Directions | None = None
    ) -> OperatingPoints:
        """Operating points of every hypothesis; ``blown`` (H, n_fuses) marks fuses that have opened.

        Args:
            along: directions whose slopes are wanted; only with one sample.

        Raises:
            UnsolvableNetworkError: a curve did not converge (does not happen for rising curves).
        """
        checkpoint()
        count = len(hypotheses)
        if blown is None:
            blown = np.zeros((count, len(self.fuses)), dtype=bool)
        shape = (self.samples, count)
        result = OperatingPoints(
            np.empty((*shape, len(self.pairs))), np.empty((*shape, len(self.pairs))),
            np.zeros((*shape, len(self.fuses))), np.zeros((*shape, len(self.contacts))),
            np.zeros((*shape, len(self.flows))), np.ones(count, dtype=bool), self._no_slopes(count, along),
        )  # fmt: skip
        # Contacts start as the healthy nominal vehicle has them; each hypothesis moves on from there.
        start = self._healthy_contacts()
        state = np.broadcast_to(np.array(start, dtype=bool), (*shape, len(start))).copy()
        todo = np.arange(count)
        for _ in range(_STATE_ROUNDS):
            wrong = []
            for base, rows in self._by_contacts(state[0], todo, start):
                changes = Changes(self, self.ports(base), [hypotheses[int(h)] for h in rows])
                part = self._solve_states(changes, state[:, rows], base, blown[rows], along)
                if result.slopes is not None and part.slopes is not None:
                    for name in ("volts", "ohms", "flow_amps"):
                        getattr(result.slopes, name)[rows] = getattr(part.slopes, name)
                for name in ("volts", "ohms", "fuse_amps", "coil_amps", "flow_amps"):
                    getattr(result, name)[:, rows] = getattr(part, name)
                wanted = ((np.abs(part.coil_amps) >= self.pull_in) & ~changes.held) != self.closed_at_rest
                wrong.append(rows[(wanted != state[:, rows]).any(axis=(0, 2))])
                state[:, rows] = wanted
            todo = np.sort(np.concatenate(wrong)) if wrong else todo[:0]
            if not todo.size:
                break
        result.settled[todo] = False
        return result

    def _by_contacts(
        self, state: Mask, todo: npt.NDArray[np.intp], start: tuple[bool, ...]
    ) -> list[tuple[tuple[bool, ...], npt.NDArray[np.intp]]]:
        """Hypotheses grouped by the state of the contacts for which the network is factorised.

        States that few are in go together with the healthy one's network, and contacts that differ are then changes like any other; so
        do all of a whole vehicle, whose network is factorised once. Those that differ in no contact go by themselves: the others' would
        be columns of zeros to all of them.
        """
        unique, group = np.unique(state[todo], axis=0, return_inverse=True)
        group = group.reshape(-1)
        found: dict[tuple[tuple[bool, ...], bool], list[npt.NDArray[np.intp]]] = {}
        for number, row in enumerate(unique):
            rows, contacts = todo[group == number], tuple(bool(v) for v in row)
            own = len(rows) >= ROWS_OF_THEIR_OWN and len(self.branches) <= MANY_BRANCHES
            base = contacts if own else start
            found.setdefault((base, contacts != base), []).append(rows)
        return [(base, np.sort(np.concatenate(found[base, differs]))) for base, differs in sorted(found)]

    def _no_slopes(self, count: int, along: Directions | None) -> Slopes | None:
        if along is None:
            return None
        columns = along.emf.shape[1]
        pairs, flows = (np.zeros((count, wanted, columns)) for wanted in (len(self.pairs), len(self.flows)))
        return Slopes(pairs, pairs.copy(), flows)

    def conducting(self) -> frozenset[str]:
        """Contacts that are closed in the healthy nominal vehicle."""
        return frozenset(self.branches[i].id for i, closed in zip(self.contacts, self._healthy_contacts(), strict=True) if closed)

    def _healthy_contacts(self) -> tuple[bool, ...]:
        # Electronics that follow their own supply start awake: a main relay that its module holds itself would never wake it otherwise.
        state = tuple(bool(rest) or self.branches[coil].id.endswith((".draw", ".supply"))
                      for rest, coil in zip(self.closed_at_rest, self.coils, strict=True))  # fmt: skip
        for _ in range(_STATE_ROUNDS):
            if not state:
                break
            flags = np.broadcast_to(np.array(state, dtype=bool), (self.samples, 1, len(state)))
            none_blown = np.zeros((1, len(self.fuses)), dtype=bool)
            amps = self._solve_states(Changes(self, self.coil_ports(state), [()]), flags, state, none_blown).coil_amps[0, 0]
            wanted = tuple(bool(v) for v in (np.abs(amps) >= self.pull_in) != self.closed_at_rest)
            if wanted == state:
                break
            state = wanted
        return state

    def _solve_states(
        self, changes: Changes, state: Mask, base: tuple[bool, ...], blown: Mask, along: Directions | None = None
    ) -> OperatingPoints:
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
        current = slope = np.zeros((*opened.shape[:2], 0))
        if self.curve_branches:
            coupling = matrix[:, seen][:, None, :, self.curve_branches]
            across = coupling - through @ columns[:, :, curve].transpose(0, 1, 3, 2)  # (S, H, O, L)
            current, slope = self._solve_curves(changes, volts[:, :, curve], across[:, :, curve])
            volts = volts - (across @ current[..., None])[..., 0]
            eye = np.eye(len(self.curve_branches))
            damped = small_solve(eye + slope[..., :, None] * across[:, :, curve], slope[..., :, None] * eye)
            own = own - np.einsum("shpl,shpl->shp", across[:, :, pair] @ damped, across[:, :, pair])
        slopes = None
        if along is not None:
            wanted = np.array([*range(self.pair_port0, matrix.shape[1]), *self.flows], dtype=int)
            flows = slice(pairs + fuses + coils, curve.start)
            found = np.concatenate([volts[0][:, pair], volts[0][:, flows], own[0]], axis=1)
            slopes = self._slopes(
                changes, state, along, wanted, port, gain[0], opened[0], at_changed[0], current[0], slope[0], found
            )
        return OperatingPoints(
            volts[:, :, pair],
            np.maximum(own, 0.0),
            volts[:, :, pairs : pairs + fuses],
            volts[:, :, pairs + fuses : pairs + fuses + coils],
            volts[:, :, pairs + fuses + coils : curve.start],
            np.ones(len(port), dtype=bool),
            slopes,
        )

    def _slopes(
        self, changes: Changes, state: Mask, along: Directions, wanted: npt.NDArray[np.intp], port: npt.NDArray[np.intp],
        gain: Array, opened: Array, at_changed: Array, current: Array, slope: Array, found: Array,
    ) -> Slopes:  # fmt: skip
        """Slopes at the operating point along directions of resistances and sources.

        A branch's term in the network moves by δ; what is looked at then moves by −B[o, i]·u_i·δ, with B the port matrix under the
        hypothesis (curves replaced by their slopes) and u_i the branch's own port quantity (Director and Rohrer, 1969).

        Args:
            found: (H, O + pairs) what is looked at, and the resistance behind each pair: in a large network a hypothesis that leaves
                one as the first has it leaves its slopes, too.
        """
        moving = np.flatnonzero(np.any(along.log_ohm != 0.0, axis=1) | np.any(along.emf != 0.0, axis=1))
        count, columns, pairs = len(port), along.emf.shape[1], len(self.pairs)
        if count * len(wanted) * len(moving) <= SLOPES_AT_ONCE:
            part = _Sloping(self, changes, state, along, moving, port, gain, opened, at_changed, current, slope, slice(None))
            quantities, squares = part.at(wanted, len(self.pairs), slice(None))
            return Slopes(quantities[:, :pairs], squares, quantities[:, pairs:])
        scale = np.maximum(np.abs(found[0]), np.concatenate([np.full(len(wanted), LEAST_SCALE), np.zeros(pairs)]))
        differs = np.abs(found - found[0]) > SAME_SHARE * scale
        differs[:, :pairs] |= differs[:, len(wanted) :]
        differs[0] = True
        quantities, squares = np.zeros((count, len(wanted), columns)), np.zeros((count, pairs, columns))
        for begin in range(0, count, SLOPES_ROWS):
            checkpoint()
            rows = slice(begin, min(begin + SLOPES_ROWS, count))
            part = _Sloping(self, changes, state, along, moving, port, gain, opened, at_changed, current, slope, rows)
            for h in range(rows.start, rows.stop):
                own = np.flatnonzero(differs[h, : len(wanted)])
                near = own[own < pairs]
                quantities[h], squares[h] = quantities[0], squares[0]
                quantities[h, own], squares[h, near] = (
                    one[0] for one in part.at(wanted[own], len(near), slice(h - begin, h - begin + 1))
                )
        return Slopes(quantities[:, :pairs], squares, quantities[:, pairs:])

    def _solve_curves(self, changes: Changes, opened: Array, coupling: Array) -> tuple[Array, Array]:
        """Currents and slopes (S, H, L) at the ports of non-linear parts: i = i(u), u = U₀ − Z·i.

        Newton's method on the currents, each step shortened until the slope of ½·iᵀZi + Σ∫i(u)du along it has been passed by no more than
        half. That content of the network (Millar, 1951) is convex because no curve falls and Z is positive, and Newton's direction leads
        down it, so the steps come to its one lowest point, which is the operating point, from anywhere.
        """
        parameters = changes.curve_parameters  # (H, L, 3)
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

        amps, volts = np.zeros_like(opened), opened
        current, slope = evaluate(volts)
        for _ in range(_NEWTON_ROUNDS):
            gap = current - amps
            step = small_solve(eye + slope[..., :, None] * coupling, gap[..., None])[..., 0]
            fall = -np.einsum("shlm,shm->shl", coupling, step)
            down = np.einsum("shl,shl->sh", fall, gap)  # the slope at the beginning of the step, not above 0
            size = np.ones((*step.shape[:2], 1))
            for _ in range(_HALVINGS):
                trial_amps, trial_volts = amps + size * step, volts + size * fall
                current, slope = evaluate(trial_volts)
                passed = np.einsum("shl,shl->sh", fall, current - trial_amps) > 0.5 * np.abs(down) + 1e-18
                if not passed.any():
                    break
                size = np.where(passed[..., None], size * 0.5, size)
            settled = np.abs(size * fall) <= 1e-10 + 1e-9 * np.abs(trial_volts)
            settled &= np.abs(size * step) <= 1e-12 + 1e-9 * np.abs(trial_amps)
            amps, volts = trial_amps, trial_volts
            if settled.all():
                return amps, slope
        if (np.abs(current - amps) > 1e-6 + 1e-4 * np.abs(amps)).any():
            raise UnsolvableNetworkError(self.setup.describe(), "the non-linear parts did not settle")
        return amps, slope


class _Sloping:
    """What slopes of some hypotheses have in common, whatever is looked at."""

    def __init__(
        self, solver: SetupSolver, changes: Changes, state: Mask, along: Directions, moving: npt.NDArray[np.intp],
        port: npt.NDArray[np.intp], gain: Array, opened: Array, at_changed: Array, current: Array, slope: Array, rows: slice,
    ) -> None:  # fmt: skip
        self._matrix, self._curves, self._moving = changes.ports.matrix[0], solver.curve_branches, moving
        self._port, self._gain = port[rows], gain[rows]
        matrix = self._matrix
        self._at_moving = matrix[moving][:, self._port].transpose(1, 0, 2)  # (H, M, K)
        own = opened[rows][:, moving] - (self._at_moving @ (self._gain @ at_changed[rows][..., None]))[..., 0]  # (H, M)
        if self._curves:
            self._at_curves = matrix[self._curves][:, self._port].transpose(1, 0, 2)
            self._from_moving = matrix[moving][:, self._curves] - self._at_moving @ self._gain @ self._at_curves.transpose(0, 2, 1)
            between = matrix[self._curves][:, self._curves] - self._at_curves @ self._gain @ self._at_curves.transpose(0, 2, 1)
            eye = np.eye(len(self._curves))
            self._damped = small_solve(eye + slope[rows][:, :, None] * between, slope[rows][:, :, None] * eye)
            own = own - (self._from_moving @ current[rows][..., None])[..., 0]
        self._terms = changes.coefficients(state)[rows][:, moving, None] * along.log_ohm[moving]  # (H, M, C)
        self._moves = own[..., None] * self._terms + changes.free_sources()[rows][:, moving, None] * along.emf[moving]

    def at(self, wanted: npt.NDArray[np.intp], pairs: int, rows: slice) -> tuple[Array, Array]:
        """(H, O, C) slopes of what is looked at, and (H, pairs, C) those of the resistance behind the first of it."""
        through = self._matrix[wanted][:, self._port[rows]].transpose(1, 0, 2) @ self._gain[rows]
        seen = self._matrix[np.ix_(wanted, self._moving)] - through @ self._at_moving[rows].transpose(0, 2, 1)  # (H, O, M)
        if self._curves:
            from_wanted = self._matrix[wanted][:, self._curves] - through @ self._at_curves[rows].transpose(0, 2, 1)
            seen = seen - from_wanted @ self._damped[rows] @ self._from_moving[rows].transpose(0, 2, 1)
        return seen @ self._moves[rows], seen[:, :pairs] ** 2 @ self._terms[rows]


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
