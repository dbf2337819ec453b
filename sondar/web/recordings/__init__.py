"""Recordings: files in and out, drawing, reading off."""
