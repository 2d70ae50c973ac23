"""The place “rounds”: routes, forms and templates together."""
