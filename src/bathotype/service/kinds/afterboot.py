"""Whether a throwaway instance's disk is still free of residue after its first boot."""

from __future__ import annotations

from sqlalchemy import select

from bathotype.core.checks.check import StaysClean
from bathotype.core.confined.asking import look
from bathotype.core.confined.judging import JUDGE, JudgeQuestion
from bathotype.core.generalize.residue import SourceIdentity
from bathotype.core.generalize.residuerules import IDENTITY_RULES
from bathotype.core.units import plural
from bathotype.service.guests.frozen import snapshot_of_boot
from bathotype.service.operations.context import WorkContext
from bathotype.service.records import Finding
from bathotype.sites.protocol import Site

_WORSE = {"none": ("low", "medium", "high"), "low": ("medium", "high"), "medium": ("high",)}
_TOLD = 10


def look_for_residue(
    context: WorkContext, site: Site, machine: str, version_id: str, tags: dict[str, str], check: StaysClean
) -> tuple[bool, str]:
    """Scan a snapshot of its boot disk.  What the version has too, somebody has seen there; an identity is its own by now.

    Returns whether nothing else is there, and what was found.
    """
    with context.session() as session:
        known = set(session.scalars(select(Finding.name).where(Finding.version_id == version_id)))
    taken = snapshot_of_boot(context, site, site.machine(machine), tags)
    try:
        with site.open_disk(taken) as raw:
            disk = look(context.reader, raw).settled(raw)
            found = context.reader.ask(JUDGE, JudgeQuestion(SourceIdentity(), identity_kept=True), disk)
    finally:
        site.delete_disk(taken)
    keys = {f.path for f in found.findings if f.rule == "ssh-host-key"}  # which are private keys besides
    own = [f.id for f in found.findings if f.rule in IDENTITY_RULES or (f.rule == "private-key" and f.path in keys)]
    new = [f for f in found.findings if f.id not in known.union(own)]
    worse = [f for f in new if f.severity in _WORSE[check.at_most]]
    told = [f"{f.severity}: {f.rule} in {f.path}" for f in worse[:_TOLD]]
    return not worse, f"{plural(len(worse), 'finding')}. {' '.join(f'{one}.' for one in told)}".strip()
