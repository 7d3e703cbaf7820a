"""Replace: samples from the song and tones under or instead of a drum's strokes, and even strokes."""
