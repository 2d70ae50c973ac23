"""The place “records”: routes, forms and templates together."""
