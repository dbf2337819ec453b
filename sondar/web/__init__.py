"""The API: one folder per feature. Routes parse, call ``sondar.app`` and serialise. No formulas, no SQL."""
