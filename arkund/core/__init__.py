"""The trade's computation: arrays in, arrays out; no interface, no database."""
