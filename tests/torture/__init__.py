"""What must not be possible, tried on purpose: `make torture` runs it all and prints a table, a
short seeded part runs with the tests."""
