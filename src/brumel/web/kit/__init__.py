"""The place “kit”: routes, forms and templates together."""
