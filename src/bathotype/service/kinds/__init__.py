"""The kinds of operation, one module each."""

from collections.abc import Mapping

from bathotype.service.kinds.adopt import Adopt
from bathotype.service.kinds.bucketexport import BucketExport
from bathotype.service.kinds.capture import Capture
from bathotype.service.kinds.captureplan import CapturePlan
from bathotype.service.kinds.changeinstances import ChangeInstances
from bathotype.service.kinds.drain import Drain
from bathotype.service.kinds.edit import Edit
from bathotype.service.kinds.eventcheck import EventCheck
from bathotype.service.kinds.exportdigest import DigestOfExport
from bathotype.service.kinds.importing import Import
from bathotype.service.kinds.launch import Launch
from bathotype.service.kinds.objectdigest import DigestOfObject
from bathotype.service.kinds.proving import Prove
from bathotype.service.kinds.purge import Purge
from bathotype.service.kinds.replicate import Replicate
from bathotype.service.kinds.verify import Verify
from bathotype.service.operations.kind import AnyKind

KINDS: Mapping[str, type[AnyKind]] = {
    kind.name: kind
    for kind in (
        Adopt,
        BucketExport,
        Capture,
        CapturePlan,
        ChangeInstances,
        DigestOfExport,
        DigestOfObject,
        Drain,
        Edit,
        EventCheck,
        Import,
        Launch,
        Prove,
        Purge,
        Replicate,
        Verify,
    )
}
