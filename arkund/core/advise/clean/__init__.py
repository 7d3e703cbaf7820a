"""Clean: gates."""
