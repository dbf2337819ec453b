"""One file per form of limit; ``limits.document`` names them all."""
