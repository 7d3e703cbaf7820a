"""What a song's parts ask for."""
