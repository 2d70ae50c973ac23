"""The place “imports”: routes, forms and templates together."""
