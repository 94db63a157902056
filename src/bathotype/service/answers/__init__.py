"""What the API tells: records turned into the models of `bathotype.wire`, many at a time."""
