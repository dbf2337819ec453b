"""The linear network seen from its ports: everything that can change, conduct by a curve, or be probed.

One solve per sample gives B = Wᵀ·M⁻¹·W and Wᵀ·x for the port vectors W; all further work is in the space of ports.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.sparse import csc_array, csr_array
from scipy.sparse.linalg import splu

from sondar.core.circuit.model import AIR_OHM, CHASSIS, OPEN_OHM, Branch, Curve, Setup
from sondar.core.circuit.network import Circuit
from sondar.core.solving.operating_points import SAMPLES, Array, Mask, Pair
from sondar.core.solving.parameters import sample_normals, source_name

IMPEDANCE_FORM_OHM = 1e4
"""Resistances up to this, and all sources, keep their current as an unknown; one of 0 V that is not known exactly is a source, too."""

LEAK_SIEMENS = 1e-10
"""Leakage per node, which makes isolated sections solvable."""


SPARSE_FROM = 150
"""Unknowns from which a network is factorised as what it is, a matrix with four entries in a row."""


def _solved(matrix: Array, right: Array, entries: set[tuple[int, int]]) -> Array:
    """(S, n, m) solutions of the network's equations (S, n, n), zero but at its entries, for each right side (S, n, m)."""
    if matrix.shape[1] < SPARSE_FROM:
        return np.asarray(np.linalg.solve(matrix, right))
    row, column = np.array(sorted(entries), dtype=np.intp).T
    # Minimum degree on AᵀA with partial pivoting (Demmel et al., SuperLU, 1999).
    return np.stack(
        [
            splu(csc_array((one[row, column], (row, column)), shape=one.shape)).solve(each)
            for one, each in zip(matrix, right, strict=True)
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
        kept = np.array([
            branch.curve is None and (bool(branch.emf_v) or bool(branch.emf_spread_v) or bool(ohm <= IMPEDANCE_FORM_OHM))
            for branch, ohm in zip(self.branches, resistance[0], strict=True)
        ])  # fmt: skip
        n = len(self.nodes)
        size = n + int(kept.sum())
        matrix = np.zeros((self.samples, size, size))
        matrix[:, np.arange(n), np.arange(n)] = LEAK_SIEMENS
        source = np.zeros((self.samples, size))
        entries = {(node, node) for node in range(size)}
        touched: set[tuple[int, int]] = set()
        vectors = np.zeros((size, len(self.branches) + len(self.pairs)))
        row = n
        for index, branch in enumerate(self.branches):
            ends = self._ends(branch.a, branch.b)
            if kept[index]:
                for node, sign in ends:
                    matrix[:, node, row] += sign
                    matrix[:, row, node] += sign
                    entries |= {(node, row), (row, node)}
                matrix[:, row, row] = -resistance[:, index]
                source[:, row] = branch.emf_v + branch.emf_spread_v * self.normals(source_name(branch))
                for cause, volts in branch.causes:
                    source[:, row] += volts * self.normals(cause)
                vectors[row, index] = 1.0
                touched.add((row, index))
                row += 1
                continue
            for node, sign in ends:
                vectors[node, index] += sign
                touched.add((node, index))
            finite = np.isfinite(resistance[0, index])
            if branch.curve is not None or finite:
                siemens = 1.0 / resistance[:, index] if branch.curve is None else curve_floor(branch.curve)
                for one, sign_one in ends:
                    for two, sign_two in ends:
                        matrix[:, one, two] += sign_one * sign_two * siemens
                        entries.add((one, two))
        for index, (red, black) in enumerate(self.pairs):
            for node, sign in self._ends(red, black):
                vectors[node, self.pair_port0 + index] += sign
                touched.add((node, self.pair_port0 + index))
        columns = slice(None) if seen is None else np.array(seen, dtype=int)
        wanted = vectors[:, columns]
        right = np.concatenate([np.broadcast_to(wanted, (self.samples, *wanted.shape)), source[:, :, None]], axis=2)
        solved = _solved(matrix, right, entries)
        found = np.zeros((self.samples, vectors.shape[1], vectors.shape[1]))
        across: Array | csr_array = vectors.T
        if size >= SPARSE_FROM:
            row, column = np.array(sorted(touched), dtype=np.intp).T
            across = csr_array((vectors[row, column], (column, row)), shape=vectors.T.shape)
        for sample in range(self.samples):
            found[sample][:, columns] = across @ solved[sample, :, :-1]
        return Ports(kept, resistance, found, solved[:, :, -1] @ vectors)

    def _ends(self, a: str, b: str) -> list[tuple[int, float]]:
        """Rows of the two ends of a branch with their signs; the body has none."""
        return [(self.nodes[name], sign) for name, sign in ((a, 1.0), (b, -1.0)) if name != CHASSIS]
