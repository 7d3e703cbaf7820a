"""The sheet: the whole settings document of a mix, its channels, and every change of them."""
