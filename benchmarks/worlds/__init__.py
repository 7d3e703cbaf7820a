"""Worlds: recordings drawn at random of single hits from several independent sources, for fitting, for
tests, and for the accuracy table. Nothing of it ships with the application."""
