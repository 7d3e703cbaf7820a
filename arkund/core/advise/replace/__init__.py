"""Replace: layers under drums."""
