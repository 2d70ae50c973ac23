"""The place “people”: routes, forms and templates together."""
