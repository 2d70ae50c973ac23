"""The drawn views: geometry made in Python, inked by the templates."""
