"""The stations: a folder each, with its record, page, picture, script and addresses (see `station.Station`)."""
