"""Rendering: spans of a graph's nodes, what is remembered of them, and printing."""
