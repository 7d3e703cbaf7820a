"""Tempo, bars and beats."""
