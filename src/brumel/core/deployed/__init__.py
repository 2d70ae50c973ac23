"""A logger left in the water: how long it lasts, its clock, what its service says, its record corrected and looked at."""
