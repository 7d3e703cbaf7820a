"""Dynamics: transients and compressors."""
