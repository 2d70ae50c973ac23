"""The place “today”: routes, forms and templates together."""
