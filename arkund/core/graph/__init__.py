"""The signal graph: what a sheet's mics, groups and buses are made of, node by node."""
