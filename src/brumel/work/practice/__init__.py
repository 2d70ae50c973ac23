"""Practice: scenarios, debrief and skills will live here; for now its page sets the faults of the simulated meters."""
