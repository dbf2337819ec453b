"""Recordings: channels and command lanes on one clock, and what can be read off them with its uncertainty."""
