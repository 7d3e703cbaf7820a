"""Finding strokes and who owns them."""
