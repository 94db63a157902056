"""What passes over the HTTP API: models that the service and its client share."""
