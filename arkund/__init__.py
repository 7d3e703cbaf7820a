"""Arkund: a workbench for raw multi-microphone drum recordings."""
