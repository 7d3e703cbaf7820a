"""What speaks for and against each onset being a hit, and how likely that makes it."""
