"""Hypotheses as arrays for one state of the network: which ports change, by how much, which sources and curves."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from sondar.core.circuit.model import AIR_OHM, OPEN_OHM, Change
from sondar.core.solving.operating_points import Array, Hypothesis, Mask
from sondar.core.solving.ports import PortNetwork, Ports

LEAST_OHM = 1e-3
"""What is left of a resistance from which more is taken than it has."""


class Changes:
    """Hypotheses as arrays for one state of the network: which ports change, by how much, which sources and curves."""

    def __init__(self, solver: PortNetwork, ports: Ports, hypotheses: Sequence[Hypothesis]) -> None:
        self.solver = solver
        self.ports = ports
        count = len(hypotheses)
        width = max((len(changes) for changes in hypotheses), default=0) or 1
        self.port = np.zeros((count, width), dtype=np.intp)
        self.delta = np.zeros((solver.samples, count, width))
        self.source = np.zeros((count, width))
        self._given: list[tuple[int, int, float]] = []
        base = np.array([self._curve(i) for i in solver.curve_branches]).reshape(len(solver.curve_branches), 3)
        self.curve_parameters = np.broadcast_to(base, (count, *base.shape)).copy()
        shape = (solver.samples, count, len(solver.contacts))
        self.contact_closed = np.broadcast_to(solver.sampled_resistance[:, None, solver.contacts], shape).copy()
        self.contact_open = np.broadcast_to(solver.open_resistance[:, None], shape).copy()
        self.held = np.zeros((count, len(solver.contacts)), dtype=bool)
        self.contact_own = np.ones((count, len(solver.contacts)), dtype=bool)
        plain: list[tuple[int, int, int, int, float]] = []
        for h, changes in enumerate(hypotheses):
            for slot, change in enumerate(changes):
                index = solver.by_id.get(change.branch)
                if change.blocks and index is not None:
                    self.held[h] |= solver.coils == index
                if index is None or not change.is_electrical:
                    continue  # nothing electrical, or both ends are one node in this circuit: the change has no effect
                if index in solver.special or change.curve_parameters or change.emf_v is not None or change.emf_scale is not None:
                    self._add_special(h, slot, index, change)
                elif change.set_ohm is not None:
                    plain.append((h, slot, index, 0, change.set_ohm))
                elif change.add_ohm is not None:
                    plain.append((h, slot, index, 1, change.add_ohm))
                else:
                    plain.append((h, slot, index, 2, change.scale or 1.0))
        self._plain = np.array(plain).reshape(len(plain), 5)
        if plain:
            self._add_plain(self._plain)

    def _curve(self, branch: int) -> tuple[float, ...]:
        curve = self.solver.branches[branch].curve
        assert curve is not None
        return curve.parameters

    def _add_plain(self, listed: Array) -> None:
        """Changed resistances of ordinary branches, all at once: rows of (hypothesis, slot, branch, how, value)."""
        h, slot, index, how = listed[:, :4].astype(np.intp).T
        value = listed[:, 4]
        before = self.ports.resistance[:, index]  # (S, n)
        with np.errstate(invalid="ignore"):
            after = np.where(how == 0, value, np.where(how == 1, np.maximum(before + value, LEAST_OHM), before * value))
            series = before - after
        beside = np.array([branch.curve is not None for branch in self.solver.branches])[index]
        shunt = 1.0 / after - np.where(beside, 0.0, 1.0 / before)  # a short across a part with a curve stands beside it
        self.port[h, slot] = index
        self.delta[:, h, slot] = np.where(self.ports.kept[index], series, shunt)

    def _add_special(self, h: int, slot: int, index: int, change: Change) -> None:
        """Changed sources, curves and relay contacts."""
        branch = self.solver.branches[index]
        if change.emf_v is not None or change.emf_scale is not None:
            if not branch.emf_v:
                return  # asleep: a source that gives nothing now gives nothing wrong either
            wanted = change.emf_v if change.emf_v is not None else branch.emf_v * (change.emf_scale or 0.0)
            self.port[h, slot], self.source[h, slot] = index, wanted - branch.emf_v
            self._given.append((h, index, 0.0 if change.emf_v is not None else change.emf_scale or 0.0))
        elif change.curve_parameters is not None:
            for position, value in change.curve_parameters:
                self.curve_parameters[h, self.solver.curve_branches.index(index), position] = value
        elif branch.contact is not None:
            position = self.solver.contacts.index(index)
            if change.set_ohm is not None:
                self.contact_closed[:, h, position] = self.contact_open[:, h, position] = change.set_ohm
                self.contact_own[h, position] = False
            elif change.add_ohm is not None:
                for ohms in (self.contact_closed, self.contact_open):
                    ohms[:, h, position] = np.maximum(ohms[:, h, position] + change.add_ohm, LEAST_OHM)

    def _delta(self, index: int, after: Array) -> Array:
        """Coefficient of w·wᵀ that turns the port's resistance (S, …) into ``after``."""
        before = self.ports.resistance[:, index].reshape(-1, *([1] * (after.ndim - 1)))
        if self.ports.kept[index]:
            return np.asarray(before - after)
        if self.solver.branches[index].curve is not None:  # a short across the part, beside its curve
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

    def free_sources(self) -> Array:
        """(H, Q) share of each source's healthy voltage that a hypothesis leaves: 0 where it sets the voltage itself."""
        found = np.ones((len(self.port), len(self.solver.branches)))
        for h, index, share in self._given:
            found[h, index] = share
        return found

    def coefficients(self, state: Mask) -> Array:
        """(H, Q) how much each branch's own term in the network moves per unit of the logarithm of its healthy resistance.

        A term is −R where the branch's current is an unknown and 1/R elsewhere; what a hypothesis puts in the branch's place does
        not move with it, what it adds stays as it is.
        """
        ohms, kept = self.ports.resistance[0], self.ports.kept
        with np.errstate(divide="ignore", invalid="ignore"):
            healthy = np.where(kept, ohms, 1.0 / ohms)
        found = np.tile(np.where(np.isfinite(healthy), healthy, 0.0), (len(self.port), 1))
        if len(self._plain):
            h, _, index, how = self._plain[:, :4].astype(np.intp).T
            value = self._plain[:, 4]
            own = np.where(how == 0, 0.0, ohms[index] * np.where(how == 2, value, 1.0))
            with np.errstate(divide="ignore", invalid="ignore"):
                shunt = own / (own + np.where(how == 1, value, 0.0)) ** 2
            found[h, index] = np.nan_to_num(np.where(kept[index], own, shunt), posinf=0.0, neginf=0.0)
        for position, index in enumerate(self.solver.contacts):
            closed, own = state[0, :, position], self.contact_own[:, position]
            conducts = (closed | (self.solver.open_ohm[position] < AIR_OHM)) & kept[index] & own
            ohms = np.where(closed, self.solver.closed_ohm[position], self.solver.open_ohm[position])
            found[:, index] = np.where(conducts, ohms, 0.0)
        return found

    def lifted(self) -> Array:
        """Port quantities (S, H, Q) before resistances change, with changed source voltages applied."""
        volts = np.broadcast_to(self.ports.volts[:, None, :], (self.solver.samples, len(self.port), self.ports.volts.shape[1]))
        if not self.source.any():
            return volts
        lift: Array = np.einsum("sqhk,hk->shq", self.ports.matrix[:, :, self.port], self.source)
        return volts + lift
