"""The Worksheet place."""
