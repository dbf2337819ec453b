"""From a network to operating points.

* ``curves``            current-voltage curves of parts that are not resistors
* ``solver``            one batched solve per set-up and sample of tolerances
* ``ports``, ``changes``  every fault as a change seen from a few ports, so that thousands need no further solve
* ``operating_points``  voltages and source resistances between any two points; ``driving`` a probe that drives
* ``fuses``             which fuses a fault has blown before
* ``monitors``          which codes and symptoms follow
* ``spice``             the same network as a netlist, for an independent check
"""
