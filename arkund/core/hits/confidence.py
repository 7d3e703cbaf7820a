"""From which confidence on a hit counts. A hit's confidence is the share of such hits that are
right: of those given 0.9, nine in ten (`verdict`; `make accuracy` prints the count)."""

LIKELY = 0.88
"""From here on a hit is relied on for what is measured of several: time, takes, tempo."""

EXPORTED = 0.6
"""Hits less sure than this are left out of what is written for other programs."""
