"""From a circuit document to a network.

* ``model``     the vocabulary: branch, change, fault, set-up, point
* ``families``  one class per part family: what it adds to the network and how it fails
* ``document``  the circuit file as typed fields, and every check on it
* ``network``   document -> nodes, branches, points, faults
* ``vehicle``   circuits joined into one network through what they share
* ``drawing``   layout from supply to ground
"""
