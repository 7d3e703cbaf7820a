"""One module a station, and one each for songs, changes and sound."""
