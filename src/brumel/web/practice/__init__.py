"""The place “practice”: routes, forms and templates together."""
