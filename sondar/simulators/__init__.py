"""Simulated devices that ship with Sondar and speak the same open protocols as real ones.

They share the *physics* with the judging code (circuit, solver, instrument laws) and nothing of belief or plan.
"""
