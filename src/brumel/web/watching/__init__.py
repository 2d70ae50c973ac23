"""For whoever runs Brumel: whether it lives, what it has done, how long it took. Nothing of the work."""
