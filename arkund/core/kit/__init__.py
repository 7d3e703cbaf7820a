"""Roles, pieces, microphones and where they stand."""
