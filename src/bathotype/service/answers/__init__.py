"""The API's answers: records turned into the models of `bathotype.wire`, many at a time."""
