"""The kinds of operation."""

from bathotype.service.operations.work import Work
from bathotype.service.work.adopting import Adopt
from bathotype.service.work.capture import Capture, CapturePlanning
from bathotype.service.work.importing import Edit, Import
from bathotype.service.work.launch import Launch
from bathotype.service.work.purge import Purge
from bathotype.service.work.replicate import Drain, Replicate
from bathotype.service.work.verify import Verify

KINDS: dict[str, type[Work]] = {
    work.kind: work for work in (Adopt, Capture, CapturePlanning, Drain, Edit, Import, Launch, Purge, Replicate, Verify)
}
