"""Brumel: bench partner and field book of a water-quality technician."""

__version__ = "0.1.0"
