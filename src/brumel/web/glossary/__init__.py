"""The glossary."""
