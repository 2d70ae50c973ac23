"""The place “bench”: routes, forms and templates together."""
