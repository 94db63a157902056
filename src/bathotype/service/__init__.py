"""The service: routes, records, operations and their scheduler."""
