"""The linear network seen from its ports: everything that can change, conduct by a curve, or be probed.

One solve per sample gives B = Wᵀ·M⁻¹·W and Wᵀ·x for the port vectors W; all further work is in the space of ports.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.sparse import csc_array, csr_array
from scipy.sparse.linalg import splu

from sondar.core.circuit.model import AIR_OHM, CHASSIS, OPEN_OHM, Branch, Curve, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.solving.operating_points import SAMPLES, Array, Mask, Pair
from sondar.core.solving.parameters import sample_normals, source_name

Ints = npt.NDArray[np.intp]

IMPEDANCE_FORM_OHM = 1e4
"""Resistances up to this, and all sources, keep their current as an unknown; one of 0 V that is not known exactly is a source, too."""

LEAK_SIEMENS = 1e-10
"""Leakage per node, which makes isolated sections solvable."""


SPARSE_FROM = 150
"""Unknowns from which a network is factorised as what it is, a matrix with four entries in a row."""


def _solved(entries: Entries, size: int, right: Array) -> Array:
    """(S, n, m) solutions of the network's equations for each right side (S, n, m)."""
    if size < SPARSE_FROM:
        place = entries.row * size + entries.column
        flat = [np.bincount(place, weights=each, minlength=size * size) for each in entries.value]
        return np.asarray(np.linalg.solve(np.stack(flat).reshape(-1, size, size), right))
    # Minimum degree on AᵀA with partial pivoting (Demmel et al., SuperLU, 1999).
    return np.stack(
        [
            splu(csc_array((each, (entries.row, entries.column)), shape=(size, size))).solve(wanted)
            for each, wanted in zip(entries.value, right, strict=True)
        ]
    )


def curve_floor(curve: Curve) -> float:
    """Conductance in siemens that the linear network lends to a curve's branch, so that its ends never float.

    A thousandth of the part's own conductance; the curve then supplies only the difference.
    """
    reference_ohm = {"lamp": curve.parameters[1], "motor": curve.parameters[0], "diode": 1e-3 * curve.parameters[2],
                    "sink": curve.parameters[1] / curve.parameters[0]}[curve.kind]  # fmt: skip
    return 1e-3 / reference_ohm


@dataclass(frozen=True, eq=False)
class Entries:
    """A matrix as the sum of entries: their rows and columns (N,) and values (S, N)."""

    row: Ints
    column: Ints
    value: Array


@dataclass(frozen=True, eq=False)
class Ports:
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


class PortNetwork:
    """The linear network of one circuit in one set-up, seen from its ports, for ``samples`` vehicles and a list of probe pairs.

    Args:
        pairs: (red node, black node) for every pair to be probed.
        samples: number of parameter samples, the nominal one included.
        deviates: replaces the built-in sampling by standard normal deviates per parameter name: one certain vehicle.
        flows: branches whose current is wanted; each must be a resistance of at most ``IMPEDANCE_FORM_OHM`` or a source.
        paths: of the paths that only a fault makes, those that some hypothesis will; all if left out.
    """

    def __init__(
        self,
        circuit: Circuit,
        setup: Setup,
        pairs: Sequence[Pair],
        samples: int = SAMPLES,
        deviates: dict[str, float] | None = None,
        flows: Sequence[str] = (),
        paths: Collection[str] | None = None,
    ) -> None:
        self.setup = setup
        self.pairs = list(pairs)
        self.samples = samples if deviates is None else 1
        self._deviates = deviates
        self.branches = [
            branch
            for branch in circuit.branches(setup)
            if paths is None or branch.curve is not None or math.isfinite(branch.resistance_ohm) or branch.id in paths
        ]
        self.by_id = {branch.id: index for index, branch in enumerate(self.branches)}
        names = sorted({node for branch in self.branches for node in (branch.a, branch.b)} | {n for p in pairs for n in p})
        self.nodes = {name: index for index, name in enumerate(n for n in names if n != CHASSIS)}
        self.curve_branches = [i for i, b in enumerate(self.branches) if b.curve is not None]
        self.contacts = [i for i, b in enumerate(self.branches) if b.contact is not None]
        self.fuses = [i for i, b in enumerate(self.branches) if b.fuse_rating_a is not None]
        found = [self.branches[i].contact for i in self.contacts]
        relays = [contact for contact in found if contact is not None]
        self.coils = np.array([self.by_id[relay.coil] for relay in relays], dtype=int)
        self.pull_in = np.array([relay.pull_in_a for relay in relays])
        self.closed_at_rest = np.array([relay.closed_at_rest for relay in relays], dtype=bool)
        self.closed_ohm = np.array([relay.closed_ohm for relay in relays])
        self.open_ohm = np.array([relay.open_ohm for relay in relays])
        self.special = frozenset(self.contacts)
        self.flows = np.array([self.by_id[name] for name in flows], dtype=int)
        self.pair_port0 = len(self.branches)
        # The two ends of every branch, then of every pair, as rows of the network; the body is -1.
        joined = [(branch.a, branch.b) for branch in self.branches] + self.pairs
        self._ends = np.array([[self.nodes.get(node, -1) for node in ends] for ends in joined], dtype=np.intp).reshape(-1, 2)
        self._conducts_by_law = np.array([branch.curve is not None for branch in self.branches], dtype=bool)
        self._is_source = np.array([bool(branch.emf_v) or bool(branch.emf_spread_v) for branch in self.branches], dtype=bool)
        self._floors = np.array([0.0 if branch.curve is None else curve_floor(branch.curve) for branch in self.branches])
        self.sampled_resistance = np.stack([self._sampled(branch) for branch in self.branches], axis=1)
        own = self.sampled_resistance[:, self.contacts]  # a tolerance is that of both positions
        self.open_resistance = np.where(self.open_ohm < AIR_OHM, self.open_ohm * own / self.closed_ohm, AIR_OHM)
        self._ports: dict[tuple[bool, ...], Ports] = {}

    def normals(self, name: str) -> Array:
        """Standard normal deviates (S,) of one parameter."""
        if self._deviates is not None:
            return np.array([self._deviates.get(name, 0.0)])
        return sample_normals(name, self.samples)

    def _sampled(self, branch: Branch) -> Array:
        nominal = branch.resistance_ohm if branch.contact is None else branch.contact.closed_ohm
        if not np.isfinite(nominal) or not branch.spread or nominal >= OPEN_OHM:
            return np.full(self.samples, nominal)
        result: Array = nominal * np.exp(branch.spread * self.normals(branch.tolerance))
        return result

    def ports(self, closed: tuple[bool, ...]) -> Ports:
        """The network with each relay contact closed or open as given; solved once and kept."""
        if closed not in self._ports:
            self._ports[closed] = self._factorise(closed)
        return self._ports[closed]

    def coil_ports(self, closed: tuple[bool, ...]) -> Ports:
        """The same, seen only from relay coils and parts with curves; quicker where nothing else is looked at."""
        return self._ports.get(closed) or self._factorise(closed, [*self.coils, *self.curve_branches])

    def _factorise(self, closed: tuple[bool, ...], seen: Sequence[int] | None = None) -> Ports:
        resistance = self.sampled_resistance.copy()
        for position, (contact, is_closed) in enumerate(zip(self.contacts, closed, strict=True)):
            if not is_closed:
                resistance[:, contact] = self.open_resistance[:, position]
        kept = ~self._conducts_by_law & (self._is_source | (resistance[0] <= IMPEDANCE_FORM_OHM))
        row = len(self.nodes) + np.cumsum(kept) - 1  # of the branch's current, where that is an unknown
        size = len(self.nodes) + int(kept.sum())
        source = np.zeros((self.samples, size))
        for index in np.flatnonzero(kept & self._is_source):
            branch = self.branches[index]
            source[:, row[index]] = branch.emf_v + branch.emf_spread_v * self.normals(source_name(branch))
            for cause, volts in branch.causes:
                source[:, row[index]] += volts * self.normals(cause)
        across = self._port_vectors(kept, row, size)
        columns = slice(None) if seen is None else np.array(seen, dtype=int)
        wanted = across[columns].toarray().T
        right = np.concatenate([np.broadcast_to(wanted, (self.samples, *wanted.shape)), source[:, :, None]], axis=2)
        solved = _solved(self._entries(resistance, kept, row), size, right)
        found = np.zeros((self.samples, across.shape[0], across.shape[0]))
        for sample in range(self.samples):
            found[sample][:, columns] = across @ solved[sample, :, :-1]
        return Ports(kept, resistance, found, np.stack([across @ each for each in solved[:, :, -1]]))

    def _entries(self, resistance: Array, kept: Mask, row: Ints) -> Entries:
        """The modified nodal equations, entry by entry."""
        count, ends = len(self.branches), self._ends[: len(self.branches)]
        leak = np.arange(len(self.nodes))
        rows, columns, values = [leak], [leak], [np.full((self.samples, len(leak)), LEAK_SIEMENS)]

        def add(of_branches: Mask, row: Ints, column: Ints, value: Array) -> None:
            rows.append(row[of_branches])
            columns.append(column[of_branches])
            values.append(np.broadcast_to(value, (self.samples, count))[:, of_branches])

        add(kept, row, row, -resistance)
        shunt = ~kept & (self._conducts_by_law | np.isfinite(resistance[0]))
        with np.errstate(divide="ignore"):
            siemens = np.where(self._conducts_by_law, self._floors, 1.0 / resistance)
        for end, sign in enumerate((1.0, -1.0)):
            node, there = ends[:, end], ends[:, end] >= 0
            add(kept & there, node, row, np.array(sign))
            add(kept & there, row, node, np.array(sign))
            add(shunt & there, node, node, siemens)
            add(shunt & (ends >= 0).all(axis=1), node, ends[:, 1 - end], -siemens)
        return Entries(np.concatenate(rows), np.concatenate(columns), np.concatenate(values, axis=1))

    def _port_vectors(self, kept: Mask, row: Ints, size: int) -> csr_array:
        """(Q, size) what each port is in the unknowns: a branch's current, or the voltage between two nodes."""
        port, end = np.nonzero((self._ends >= 0) & ~np.pad(kept, (0, len(self.pairs)))[:, None])
        currents = np.flatnonzero(kept)
        value = np.concatenate([np.where(end == 0, 1.0, -1.0), np.ones(len(currents))])
        place = np.concatenate([port, currents]), np.concatenate([self._ends[port, end], row[currents]])
        return csr_array((value, place), shape=(len(self._ends), size))
