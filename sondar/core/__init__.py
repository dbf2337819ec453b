"""The computation: circuits, predictions, belief, plan and conclusion.

Rule of this folder: it imports the standard library, NumPy, SciPy, NetworkX and Pydantic, and nothing
else. No Flask, no SQL, no files, no clock, no network, and no randomness that was not passed in or
seeded from names. import-linter holds the rule (``pyproject.toml``).

* ``quantities``   what a technician types and reads, to and from SI
* ``circuit``      document -> parts -> network -> solved operating points
* ``diagnosis``    predictions -> belief -> plan -> conclusion
* ``drawing``      layout of the circuit from supply to ground
"""

ENGINE_VERSION = "4"
"""Raised whenever the same readings may be judged differently; kept with what was said of a diagnosis."""
