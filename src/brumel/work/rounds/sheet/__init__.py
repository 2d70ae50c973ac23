"""The sheet of a visit: every probe in the water, what it is worth, and writing it."""
