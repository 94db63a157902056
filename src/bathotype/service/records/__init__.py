"""Records in PostgreSQL."""

from bathotype.service.records.access import (
    AccountKey,
    ApiToken,
    ConsoleSession,
    Invitation,
    Membership,
    OidcAttempt,
    SignInFailure,
    User,
)
from bathotype.service.records.audit import Alert, Event, IdempotentAnswer
from bathotype.service.records.base import Account, Base
from bathotype.service.records.builds import BuildRun
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
from bathotype.service.records.checks import CheckRun
from bathotype.service.records.chunks import StoredChunk, StoredPack
from bathotype.service.records.fleet import FirstBootSet, Identity, Instance
from bathotype.service.records.history import CountSample, InstanceCount
from bathotype.service.records.messages import Delivery, Subscription
from bathotype.service.records.operations import LogLine, Operation, OperationStep
from bathotype.service.records.regions import Arrival, Link, Placement
from bathotype.service.records.repositories import Repository
from bathotype.service.records.secrets import Secret
from bathotype.service.records.sharing import Allowance, Notice, PoolLine, RuleRow, Share
from bathotype.service.records.sheets import SavedSheet, SheetFile, SheetText
from bathotype.service.records.storage import StoredBytes

__all__ = [
    "Account",
    "AccountKey",
    "Alert",
    "Allowance",
    "ApiToken",
    "Arrival",
    "Base",
    "BaseDisk",
    "BuildRun",
    "CheckRun",
    "Checkpoint",
    "ConsoleSession",
    "CountSample",
    "Delivery",
    "Event",
    "ExportDigest",
    "Finding",
    "FirstBootSet",
    "Hold",
    "IdempotentAnswer",
    "Identity",
    "Instance",
    "InstanceCount",
    "Invitation",
    "Line",
    "Link",
    "LogLine",
    "Mark",
    "MarkMove",
    "Membership",
    "Notice",
    "NumberClaim",
    "OidcAttempt",
    "Operation",
    "OperationStep",
    "Placement",
    "PoolLine",
    "Replica",
    "Repository",
    "RuleRow",
    "SavedSheet",
    "Secret",
    "Share",
    "SheetFile",
    "SheetText",
    "SignInFailure",
    "StoredBytes",
    "StoredChunk",
    "StoredPack",
    "Subscription",
    "Upload",
    "User",
    "Version",
    "VersionPackage",
]
