"""Typed views of the core's results, ready for JSON. ``diagnosis`` gives the figures, ``wording`` the sentences; here they meet."""
