"""Limits: what a reading must be under a condition, and whether it is.

``conformity`` decides (JCGM 106); ``forms`` has one file per form of limit, with its fields in the circuit file and what it does;
``document`` puts the forms together into the limit of a circuit file; ``card`` judges a circuit's limits by the readings.
"""
