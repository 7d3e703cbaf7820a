"""The sheet, the signal graph, rendering and printing."""
