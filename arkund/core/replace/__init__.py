"""Replace: samples from the song and tones under or instead of a drum's hits, and even hits."""
