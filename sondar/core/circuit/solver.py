"""Batched operating points: set-up × parameter sample × hypothesis × probe pair, in a few matrix products.

Method. Modified nodal equations (Ho, Ruehli and Brennan, 1975) in symmetric form, M·x = s with x = (node voltages,
branch currents): resistances up to ``IMPEDANCE_FORM_OHM`` and all sources keep their current as an unknown, so that an
*added series resistance* is a change of one diagonal entry; higher resistances and paths that only a fault makes are
conductances between two nodes. Every change is then M' = M + Σ δ·w·wᵀ, a rank-one term per changed branch, and a
hypothesis costs a k×k solve (Woodbury identity) instead of a factorisation. In this dual form all terms of the update
add with the same sign, so an open wire (100 MΩ on 10 mΩ) loses no digits.

Ports. Everything that can change, conduct by a law, or be probed is a *port*, a vector w. One solve per sample gives
B = Wᵀ·M⁻¹·W and W ᵀ·x, and all further work is in the space of ports. Array layouts, throughout:

    S samples (0 is the nominal vehicle), H hypotheses, K changed ports, L law ports, P probe pairs.

Laws (lamp, motor, diode) are solved by Newton's method on the Thévenin equivalent at their ports; relay contacts and
fuses are states iterated until they agree with the currents. The leakage of ``LEAK_SIEMENS`` per node makes isolated
stretches solvable; whether a point *floats* is told from its Thévenin resistance, never from a magic voltage.
"""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt
from scipy.stats import norm

from sondar.core.circuit.families.supply import FUSE_BLOWS_AT
from sondar.core.circuit.laws import LAWS
from sondar.core.circuit.model import AIR_OHM, CHASSIS, OPEN_OHM, Branch, Change, Law, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.errors import UnsolvableNetworkError

Array = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]
Pair = tuple[str, str]
Hypothesis = tuple[Change, ...]

IMPEDANCE_FORM_OHM = 1e4
LEAK_SIEMENS = 1e-10
SAMPLES = 13
_STATE_ROUNDS = 8
_NEWTON_ROUNDS = 80


@dataclass(frozen=True, eq=False)
class OperatingPoints:
    """What an ideal instrument finds between each probe pair.

    Attributes:
        volts: (S, H, P) open-circuit voltage, red against black.
        ohms: (S, H, P) Thévenin resistance at the operating point.
        fuse_amps: (S, H, n_fuses) current through each fuse.
        coil_amps: (S, H, n_contacts) current of the coil behind each relay contact.
        flow_amps: (S, H, n_flows) current through each branch asked for.
        settled: (H,) False where no state of the relay contacts agrees with the coil currents: the relay chatters.
    """

    volts: Array
    ohms: Array
    fuse_amps: Array
    coil_amps: Array
    flow_amps: Array
    settled: Mask

    def of_pairs(self, pairs: Sequence[int]) -> OperatingPoints:
        """The same for some of the probe pairs."""
        return OperatingPoints(
            self.volts[:, :, pairs], self.ohms[:, :, pairs], self.fuse_amps, self.coil_amps, self.flow_amps, self.settled
        )


@dataclass(frozen=True, eq=False)
class Waves:
    """What a set-up has over time: the operating points of every instant, and their shares of the time.

    Attributes:
        instants: one if nothing pulses. shares: sum to 1.
        pulses: which parts are in their high phase at each instant. hertz: frequency of every part that pulses.
    """

    instants: tuple[OperatingPoints, ...]
    shares: tuple[float, ...]
    pulses: tuple[dict[str, bool], ...]
    hertz: dict[str, float]

    def of_pairs(self, pairs: Sequence[int]) -> Waves:
        """The same for some of the probe pairs."""
        return Waves(tuple(p.of_pairs(pairs) for p in self.instants), self.shares, self.pulses, self.hertz)

    def mean(self, values: Sequence[Array]) -> Array:
        """Mean over time of one array per instant."""
        total: Array = sum(share * value for share, value in zip(self.shares, values, strict=True))  # type: ignore[assignment]
        return total


def steady(points: OperatingPoints) -> Waves:
    """Operating points that do not change with time."""
    return Waves((points,), (1.0,), ({},), {})


def solve_waves(
    circuit: Circuit, setup: Setup, pairs: Sequence[Pair], hypotheses: Sequence[Hypothesis], blown: Mask, *,
    samples: int = SAMPLES, deviates: dict[str, float] | None = None, flows: Sequence[str] = (),
) -> Waves:  # fmt: skip
    """Solve every instant of a set-up; see ``SetupSolver`` and ``Circuit.phases``."""
    phases = circuit.phases(setup)
    instants = tuple(
        SetupSolver(circuit, instant, pairs, samples, deviates, flows).solve(hypotheses, blown) for _, instant in phases
    )
    hertz = circuit.pulse_hertz(setup) if len(phases) > 1 else {}
    return Waves(instants, tuple(share for share, _ in phases), tuple(dict(instant.pulses) for _, instant in phases), hertz)


def law_floor(law: Law) -> float:
    """Conductance in siemens that the linear network lends to a law's branch, so that its ends never float.

    A thousandth of the part's own conductance; the law then supplies only the difference.
    """
    reference_ohm = {"lamp": law.parameters[1], "motor": law.parameters[0], "diode": 1e-3 * law.parameters[2],
                    "sink": law.parameters[1] / law.parameters[0]}[law.kind]  # fmt: skip
    return 1e-3 / reference_ohm


@lru_cache(maxsize=4096)
def sample_normals(name: str, samples: int) -> Array:
    """Standard normal deviates (samples,) for one parameter; entry 0 is 0, the nominal vehicle.

    Stratified and shuffled by a seed from the parameter's name, so results do not depend on order or process.
    """
    if samples == 1:
        return np.zeros(1)
    strata = norm.ppf((np.arange(samples - 1) + 0.5) / (samples - 1))
    order = np.random.default_rng(zlib.crc32(name.encode())).permutation(samples - 1)
    deviates = np.concatenate([[0.0], strata[order]])
    deviates.setflags(write=False)
    return deviates


@dataclass(frozen=True, eq=False)
class _Ports:
    """The linear network seen from its ports, with the relay contacts in given states.

    Attributes:
        kept: (n_branches,) True where the branch's current is an unknown (impedance form).
        resistance: (S, n_branches) with contacts at their state.
        matrix: (S, Q, Q) port matrix Wᵀ·M⁻¹·W; volts: (S, Q) port quantities with nothing connected.
    """

    kept: Mask
    resistance: Array
    matrix: Array
    volts: Array


class SetupSolver:
    """One circuit in one set-up, factorised for ``samples`` vehicles and a list of probe pairs.

    Args:
        pairs: (red node, black node) for every pair to be probed.
        samples: number of parameter samples, the nominal one included.
        deviates: replaces the built-in sampling by standard normal deviates per parameter name: one certain vehicle.
        flows: branches whose current is wanted; each must be a resistance of at most ``IMPEDANCE_FORM_OHM`` or a source.
    """

    def __init__(
        self,
        circuit: Circuit,
        setup: Setup,
        pairs: Sequence[Pair],
        samples: int = SAMPLES,
        deviates: dict[str, float] | None = None,
        flows: Sequence[str] = (),
    ) -> None:
        self.setup = setup
        self.pairs = list(pairs)
        self.samples = samples if deviates is None else 1
        self._deviates = deviates
        self.branches = circuit.branches(setup)
        self.by_id = {branch.id: index for index, branch in enumerate(self.branches)}
        names = sorted({node for branch in self.branches for node in (branch.a, branch.b)} | {n for p in pairs for n in p})
        self.nodes = {name: index for index, name in enumerate(n for n in names if n != CHASSIS)}
        self.law_branches = [i for i, b in enumerate(self.branches) if b.law is not None]
        self.contacts = [i for i, b in enumerate(self.branches) if b.contact is not None]
        self.fuses = [i for i, b in enumerate(self.branches) if b.fuse_rating_a is not None]
        found = [self.branches[i].contact for i in self.contacts]
        relays = [contact for contact in found if contact is not None]
        self.coils = np.array([self.by_id[relay.coil] for relay in relays], dtype=int)
        self.pull_in = np.array([relay.pull_in_a for relay in relays])
        self.closed_at_rest = np.array([relay.closed_at_rest for relay in relays], dtype=bool)
        self.closed_ohm = np.array([relay.closed_ohm for relay in relays])
        self.special = frozenset(self.contacts)
        self.flows = np.array([self.by_id[name] for name in flows], dtype=int)
        self.pair_port0 = len(self.branches)
        self._resistance = np.stack([self._sampled(branch) for branch in self.branches], axis=1)
        self._ports: dict[tuple[bool, ...], _Ports] = {}

    # -- the linear network --------------------------------------------------------------------------

    def normals(self, name: str) -> Array:
        """Standard normal deviates (S,) of one parameter."""
        if self._deviates is not None:
            return np.array([self._deviates.get(name, 0.0)])
        return sample_normals(name, self.samples)

    def _sampled(self, branch: Branch) -> Array:
        nominal = branch.resistance_ohm if branch.contact is None else branch.contact.closed_ohm
        if not np.isfinite(nominal) or not branch.spread or nominal >= OPEN_OHM:
            return np.full(self.samples, nominal)
        result: Array = nominal * np.exp(branch.spread * self.normals(branch.id))
        return result

    def ports(self, closed: tuple[bool, ...]) -> _Ports:
        """The network with each relay contact closed or open as given; solved once and kept."""
        if closed not in self._ports:
            self._ports[closed] = self._factorise(closed)
        return self._ports[closed]

    def _factorise(self, closed: tuple[bool, ...]) -> _Ports:
        resistance = self._resistance.copy()
        for contact, is_closed in zip(self.contacts, closed, strict=True):
            if not is_closed:
                resistance[:, contact] = AIR_OHM
        kept = np.array([
            branch.law is None and (bool(branch.emf_v) or bool(ohm <= IMPEDANCE_FORM_OHM))
            for branch, ohm in zip(self.branches, resistance[0], strict=True)
        ])  # fmt: skip
        n = len(self.nodes)
        size = n + int(kept.sum())
        matrix = np.zeros((self.samples, size, size))
        matrix[:, np.arange(n), np.arange(n)] = LEAK_SIEMENS
        source = np.zeros((self.samples, size))
        vectors = np.zeros((size, len(self.branches) + len(self.pairs)))
        row = n
        for index, branch in enumerate(self.branches):
            incidence = self._incidence(size, branch.a, branch.b)
            if kept[index]:
                matrix[:, :, row] += incidence
                matrix[:, row, :] += incidence
                matrix[:, row, row] = -resistance[:, index]
                source[:, row] = branch.emf_v + branch.emf_spread_v * self.normals(f"{branch.id}#emf")
                vectors[row, index] = 1.0
                row += 1
                continue
            vectors[:, index] = incidence
            if branch.law is not None:
                matrix += np.outer(incidence, incidence) * law_floor(branch.law)
            elif np.isfinite(resistance[0, index]):
                matrix += np.outer(incidence, incidence) / resistance[:, index, None, None]
        for index, (red, black) in enumerate(self.pairs):
            vectors[:, self.pair_port0 + index] = self._incidence(size, red, black)
        right = np.concatenate([np.broadcast_to(vectors, (self.samples, *vectors.shape)), source[:, :, None]], axis=2)
        solved = np.linalg.solve(matrix, right)
        return _Ports(kept, resistance, vectors.T @ solved[:, :, :-1], solved[:, :, -1] @ vectors)

    def _incidence(self, size: int, a: str, b: str) -> Array:
        vector = np.zeros(size)
        if a != CHASSIS:
            vector[self.nodes[a]] += 1.0
        if b != CHASSIS:
            vector[self.nodes[b]] -= 1.0
        return vector

    # -- hypotheses ----------------------------------------------------------------------------------

    def solve(self, hypotheses: Sequence[Hypothesis], blown: Mask | None = None) -> OperatingPoints:
        """Operating points of every hypothesis; ``blown`` (H, n_fuses) marks fuses that have opened.

        Raises:
            UnsolvableNetworkError: a law did not converge (does not happen for rising laws).
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
                    _Changes(self, self.ports(base), [hypotheses[h] for h in rows]), state[:, rows], base, blown[rows]
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
            amps = self._solve_states(_Changes(self, self.ports(state), [()]), flags, state, none_blown).coil_amps[0, 0]
            wanted = tuple(bool(v) for v in (np.abs(amps) >= self.pull_in) != self.closed_at_rest)
            if wanted == state:
                break
            state = wanted
        return state

    def _solve_states(self, changes: _Changes, state: Mask, base: tuple[bool, ...], blown: Mask) -> OperatingPoints:
        port, delta = changes.select(state, base, blown)  # (H, K), (S, H, K)
        matrix = changes.ports.matrix
        opened = changes.lifted()  # (S, H, Q)
        inner = matrix[:, port[:, :, None], port[:, None, :]]  # (S, H, K, K)
        eye = np.eye(port.shape[1])
        gain = small_solve(eye + delta[..., :, None] * inner, delta[..., :, None] * eye)  # (I + D·B)⁻¹·D
        at_changed = np.take_along_axis(opened, np.broadcast_to(port, (self.samples, *port.shape)), axis=2)
        # From here on only the ports that are looked at (O of them): pairs, fuses, coils, laws.
        pairs, fuses, coils = len(self.pairs), len(self.fuses), len(self.coils)
        pair = slice(0, pairs)
        law = slice(pairs + fuses + coils + len(self.flows), None)
        seen = np.array(
            [*range(self.pair_port0, matrix.shape[1]), *self.fuses, *self.coils, *self.flows, *self.law_branches], dtype=int
        )
        columns = matrix[:, seen][:, :, port].transpose(0, 2, 1, 3)  # (S, H, O, K)
        volts = opened[:, :, seen] - (columns @ (gain @ at_changed[..., None]))[..., 0]
        diagonal = np.einsum("sqq->sq", matrix)[:, None, self.pair_port0 :]
        through = columns @ gain  # (S, H, O, K)
        own = diagonal - np.einsum("shpk,shpk->shp", through[:, :, pair], columns[:, :, pair])
        if self.law_branches:
            coupling = matrix[:, seen][:, None, :, self.law_branches]
            across = coupling - through @ columns[:, :, law].transpose(0, 1, 3, 2)  # (S, H, O, L)
            current, slope = self._solve_laws(changes, volts[:, :, law], across[:, :, law])
            volts = volts - (across @ current[..., None])[..., 0]
            eye = np.eye(len(self.law_branches))
            damped = small_solve(eye + slope[..., :, None] * across[:, :, law], slope[..., :, None] * eye)
            own = own - np.einsum("shpl,shpl->shp", across[:, :, pair] @ damped, across[:, :, pair])
        return OperatingPoints(
            volts[:, :, pair],
            np.maximum(own, 0.0),
            volts[:, :, pairs : pairs + fuses],
            volts[:, :, pairs + fuses : pairs + fuses + coils],
            volts[:, :, pairs + fuses + coils : law.start],
            np.ones(len(port), dtype=bool),
        )

    def _solve_laws(self, changes: _Changes, opened: Array, coupling: Array) -> tuple[Array, Array]:
        """Currents and slopes (S, H, L) at the ports of non-linear parts: u = U₀ − Z·i(u), damped Newton."""
        parameters = changes.law_parameters  # (H, L, 3)
        volts = np.zeros_like(opened)
        eye = np.eye(opened.shape[2])

        def evaluate(u: Array) -> tuple[Array, Array]:
            current, slope = np.empty_like(u), np.empty_like(u)
            for l, branch in enumerate(self.law_branches):
                law = self.branches[branch].law
                assert law is not None
                amps, rise = LAWS[law.kind](u[..., l], *(parameters[:, l, p] for p in range(3)))
                floor = law_floor(law)  # already in the linear network
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


class _Changes:
    """Hypotheses as arrays for one state of the network: which ports change, by how much, which sources and laws."""

    def __init__(self, solver: SetupSolver, ports: _Ports, hypotheses: Sequence[Hypothesis]) -> None:
        self.solver = solver
        self.ports = ports
        count = len(hypotheses)
        width = max((len(changes) for changes in hypotheses), default=0) or 1
        self.port = np.zeros((count, width), dtype=np.intp)
        self.delta = np.zeros((solver.samples, count, width))
        self.source = np.zeros((count, width))
        base = np.array([self._law(i) for i in solver.law_branches]).reshape(len(solver.law_branches), 3)
        self.law_parameters = np.broadcast_to(base, (count, *base.shape)).copy()
        shape = (solver.samples, count, len(solver.contacts))
        self.contact_closed = np.broadcast_to(solver._resistance[:, None, solver.contacts], shape).copy()
        self.contact_open = np.full(shape, AIR_OHM)
        plain: list[tuple[int, int, int, int, float]] = []
        for h, changes in enumerate(hypotheses):
            for slot, change in enumerate(changes):
                index = solver.by_id.get(change.branch)
                if index is None or change.blocks:
                    continue  # nothing electrical, or both ends are one node in this circuit: the change has no effect
                if index in solver.special or change.law_parameters or change.emf_v is not None or change.emf_scale is not None:
                    self._add_special(h, slot, index, change)
                elif change.set_ohm is not None:
                    plain.append((h, slot, index, 0, change.set_ohm))
                elif change.add_ohm is not None:
                    plain.append((h, slot, index, 1, change.add_ohm))
                else:
                    plain.append((h, slot, index, 2, change.scale or 1.0))
        if plain:
            self._add_plain(np.array(plain))

    def _law(self, branch: int) -> tuple[float, ...]:
        law = self.solver.branches[branch].law
        assert law is not None
        return law.parameters

    def _add_plain(self, listed: Array) -> None:
        """Changed resistances of ordinary branches, all at once: rows of (hypothesis, slot, branch, how, value)."""
        h, slot, index, how = listed[:, :4].astype(np.intp).T
        value = listed[:, 4]
        before = self.ports.resistance[:, index]  # (S, n)
        with np.errstate(invalid="ignore"):
            after = np.where(how == 0, value, np.where(how == 1, before + value, before * value))
            series = before - after
        beside = np.array([branch.law is not None for branch in self.solver.branches])[index]
        shunt = 1.0 / after - np.where(beside, 0.0, 1.0 / before)  # a short across a part with a law stands beside it
        self.port[h, slot] = index
        self.delta[:, h, slot] = np.where(self.ports.kept[index], series, shunt)

    def _add_special(self, h: int, slot: int, index: int, change: Change) -> None:
        """Changed sources, laws and relay contacts."""
        branch = self.solver.branches[index]
        if change.emf_v is not None or change.emf_scale is not None:
            if not branch.emf_v:
                return  # asleep: a source that gives nothing now gives nothing wrong either
            wanted = change.emf_v if change.emf_v is not None else branch.emf_v * (change.emf_scale or 0.0)
            self.port[h, slot], self.source[h, slot] = index, wanted - branch.emf_v
        elif change.law_parameters is not None:
            for position, value in change.law_parameters:
                self.law_parameters[h, self.solver.law_branches.index(index), position] = value
        elif branch.contact is not None:
            position = self.solver.contacts.index(index)
            if change.set_ohm is not None:
                self.contact_closed[:, h, position] = self.contact_open[:, h, position] = change.set_ohm
            elif change.add_ohm is not None:
                self.contact_closed[:, h, position] += change.add_ohm

    def _delta(self, index: int, after: Array) -> Array:
        """Coefficient of w·wᵀ that turns the port's resistance (S, …) into ``after``."""
        before = self.ports.resistance[:, index].reshape(-1, *([1] * (after.ndim - 1)))
        if self.ports.kept[index]:
            return np.asarray(before - after)
        if self.solver.branches[index].law is not None:  # a short across the part, beside its law
            return np.asarray(1.0 / after)
        return np.asarray(1.0 / after - 1.0 / before)

    def select(self, state: Mask, base: tuple[bool, ...], blown: Mask) -> tuple[npt.NDArray[np.intp], Array]:
        """Changed ports (H, K) and coefficients (S, H, K), contacts in ``state`` and blown fuses included."""
        solver = self.solver
        ports, deltas = [self.port], [self.delta]
        count = len(self.port)
        target = np.where(state, self.contact_closed, self.contact_open)
        for position, index in enumerate(solver.contacts):
            delta = self._delta(index, target[:, :, position])
            if np.any(delta):
                ports.append(np.full((count, 1), index))
                deltas.append(delta[:, :, None])
        for position, index in enumerate(solver.fuses):
            if blown[:, position].any():
                ports.append(np.full((count, 1), index))
                opened = np.where(blown[:, position], -OPEN_OHM, 0.0)
                deltas.append(np.broadcast_to(opened[None, :, None], (solver.samples, count, 1)))
        return np.concatenate(ports, axis=1), np.concatenate(deltas, axis=2)

    def lifted(self) -> Array:
        """Port quantities (S, H, Q) before resistances change, with changed source voltages applied."""
        volts = np.broadcast_to(self.ports.volts[:, None, :], (self.solver.samples, len(self.port), self.ports.volts.shape[1]))
        if not self.source.any():
            return volts
        lift: Array = np.einsum("sqhk,hk->shq", self.ports.matrix[:, :, self.port], self.source)
        return volts + lift


def blown_fuses(circuit: Circuit, hypotheses: Sequence[Hypothesis], temperature_c: float = 20.0) -> Mask:
    """Which fuses each hypothesis has opened (H, n_fuses), with the vehicle in normal use and all plugged in.

    A fault that overloads a fuse in any position of the controls has blown it before the technician arrives. Of two
    overloaded fuses in series, the one with the greater overload opens.
    """
    blown: Mask | None = None
    for controls in circuit.usual_states():
        solver = SetupSolver(circuit, Setup(controls, frozenset(), temperature_c), [], samples=1)
        if not solver.fuses:
            return np.zeros((len(hypotheses), 0), dtype=bool)
        ratings = np.array([solver.branches[i].fuse_rating_a for i in solver.fuses], dtype=float)
        ratio = np.abs(solver.solve(hypotheses, blown).fuse_amps[0]) / ratings
        worst = ratio == ratio.max(axis=1, keepdims=True)
        now = (ratio > FUSE_BLOWS_AT) & worst
        blown = now if blown is None else blown | now
    assert blown is not None
    return blown
