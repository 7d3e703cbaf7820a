"""Recordings made of recorded single strokes: placed before simulated mics, with their truth."""
