"""Gates that know the strokes."""
