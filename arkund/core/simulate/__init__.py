"""A drum kit, a room and a drummer, with their ground truth."""
