"""Level: trims, faders, who carries what."""
