"""Manufacturers' diagnostic procedures: entered as a file, followed step by step, compared with Sondar's own order."""
