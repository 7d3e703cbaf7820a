"""Equaliser, transient shaper, compressor."""
