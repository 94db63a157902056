"""Records in PostgreSQL."""

from bathotype.service.records.audit import Alert, Event, IdempotentAnswer
from bathotype.service.records.base import Account, ApiToken, Base
from bathotype.service.records.catalogue import (
    BaseDisk,
    Checkpoint,
    ExportDigest,
    Finding,
    Hold,
    Line,
    Mark,
    MarkMove,
    NumberClaim,
    Replica,
    Upload,
    Version,
    VersionPackage,
)
from bathotype.service.records.fleet import FirstBootSet, Identity, Instance
from bathotype.service.records.operations import LogLine, Operation, OperationStep

__all__ = [
    "Account",
    "Alert",
    "ApiToken",
    "Base",
    "BaseDisk",
    "Checkpoint",
    "Event",
    "ExportDigest",
    "Finding",
    "FirstBootSet",
    "Hold",
    "IdempotentAnswer",
    "Identity",
    "Instance",
    "Line",
    "LogLine",
    "Mark",
    "MarkMove",
    "NumberClaim",
    "Operation",
    "OperationStep",
    "Replica",
    "Upload",
    "Version",
    "VersionPackage",
]
