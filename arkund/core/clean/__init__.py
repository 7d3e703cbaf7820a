"""Gates that know the hits."""
