"""Sondar: diagnosis of automotive sensor and actuator circuits."""

import os

# The solver's matrices are small and many. With BLAS threads they wait for one another (four times slower on two cores),
# so each process computes on one thread unless told otherwise. Must be set before NumPy is imported.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.4.0"
