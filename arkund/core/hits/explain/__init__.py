"""What every piece leaves in every mic, and so what bleed can be."""
