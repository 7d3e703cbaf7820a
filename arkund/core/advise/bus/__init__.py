"""The drum bus and what runs beside it."""
