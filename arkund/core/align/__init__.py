"""Delay and polarity between mics."""
