"""Open formats in and out: MIDI, CSV."""
