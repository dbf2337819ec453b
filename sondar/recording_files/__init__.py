"""Recordings as other programs write them, in and out: tables of text in any dialect, and MDF 4 (ASAM)."""
