"""What is found as files are loaded in."""
