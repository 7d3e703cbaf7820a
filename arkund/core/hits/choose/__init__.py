"""Which onsets are hits, and where each begins."""
