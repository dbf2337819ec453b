"""From a circuit document to solved operating points.

* ``model``     the vocabulary: branch, change, fault, set-up, point
* ``families``  one class per part family: what it adds to the network and how it fails
* ``document``  the circuit file as typed fields, and every check on it
* ``network``   document -> nodes, branches, points, faults
* ``curves``      current-voltage curves of parts that are not resistors
* ``solver``    batched operating points over set-up x sample x hypothesis
* ``spice``     the same network as a netlist, for an independent check
"""
