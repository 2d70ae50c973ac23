"""The live link: samples as they come, and the sessions of link programs."""
