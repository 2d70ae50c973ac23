"""Deployments: routes, forms and templates of loggers left at sites."""
