"""Describing the circuit of a real vehicle: typical circuits by what a plug carries, and what a wiring sheet says cavity by cavity."""
