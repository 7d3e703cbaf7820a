"""Align: polarity, delays, rooms."""
