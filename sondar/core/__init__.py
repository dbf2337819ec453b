"""The computation: circuits, predictions, belief and diagnosis.

Rule of this folder: it imports the standard library, NumPy, SciPy, NetworkX and Pydantic, and nothing
else. No Flask, no SQL, no files, no clock, no network, and no randomness that was not passed in or
seeded from names. import-linter holds the rule (``pyproject.toml``).

* ``circuit``      document -> parts -> network, drawing, vehicle
* ``solving``      network -> operating points under every change
* ``instruments``  operating points -> what a person sees
* ``diagnosis``    predictions -> belief -> ranking -> judgement
* ``triage``       codes and symptoms -> the circuit to test first
* ``limits``       whether a reading is what it must be
* ``procedures``   a manufacturer's procedure, followed and compared
* ``wording``      sentences; ``present`` views for a screen
* ``quantities``, ``codes``, ``vin``, ``terms``, ``calculators``, ``errors``, ``former_names``
"""

ENGINE_VERSION = "9"
"""Raised whenever the same readings may be judged differently; kept with what was said of a diagnosis."""
