"""Filling in the circuit of a diagnosis while it is measured."""
