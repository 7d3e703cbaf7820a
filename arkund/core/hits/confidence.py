"""From which confidence on a stroke counts. A stroke's confidence is the share of such strokes that are
right: of those given 0.9, nine in ten (`verdict`; `make accuracy` prints the count)."""

LIKELY = 0.88
"""From here on a stroke is relied on for what is measured of several: time, takes, tempo."""

EXPORTED = 0.6
"""Strokes less sure than this are left out of what is written for other programs."""
