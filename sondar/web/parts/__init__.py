"""The quick reference of parts."""
