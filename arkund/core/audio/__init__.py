"""Reading, writing, resampling and drawing sound."""
