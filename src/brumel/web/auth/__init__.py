"""The place “auth”: routes, forms and templates together."""
