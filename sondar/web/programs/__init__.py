"""Tokens of outside programs."""
