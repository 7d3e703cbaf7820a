"""Processors: one module each, with its settings, their described values and its kernel bound."""
