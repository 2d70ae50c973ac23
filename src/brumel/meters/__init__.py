"""Talking to a meter. Here: the simulated meter that ships with Brumel."""
