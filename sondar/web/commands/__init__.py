"""Live data and commands of the connected vehicle."""
