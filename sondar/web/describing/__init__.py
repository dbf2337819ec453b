"""Describing circuits from wiring sheets."""
