"""What is measured of a signal."""
