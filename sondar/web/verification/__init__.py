"""Verification after a repair: how everything that failed stands now, and the monitors of the vehicle."""
