"""The client library: typed, synchronous, with the service's errors as exceptions.

from bathotype.client import Client

with Client.from_environment() as client:
    operation = client.capture(machine="gauge-seed-01", line="gauge-collector", bump="minor")
    client.wait(operation.id)
"""

from bathotype.client.client import Client
from bathotype.client.transport import NotSignedIn, OperationFailed

__all__ = ["Client", "NotSignedIn", "OperationFailed"]
