"""Recordings made of recorded single hits: placed before simulated mics, with their truth."""
