"""The words that Bathotype uses, each with what it means: one list for the command line and the docs."""

from __future__ import annotations

WORDS: dict[str, str] = {
    "account": "Who owns lines and machines. A person or a program acts for one account at a time.",
    "allowance": "How many instances of something may run at once.",
    "alert": "A condition that somebody should look at. It stays until it is over.",
    "base disk": "A launch-ready disk of a version at a region's site; machines are made of it without a copy.",
    "build run": "One execution of a build sheet, in a temporary machine that is removed afterwards.",
    "build sheet": "A file that says how a version is made from a base: steps, payload, parameters, result.",
    "capture": "Making a version from a machine's disks: live (the machine keeps running), stopped (it is off) or "
    "as-is (nothing is removed; its identity stays in the version).",
    "chunk": "64 KiB of a disk. Equal chunks are stored once in a region.",
    "content digest": "Names the bytes of a version, wherever they are stored.",
    "contents": "What is installed on a version's disk: system, packages, services, users.",
    "copies": "How many base disks of a version are kept ready in a region.",
    "data disk": "A disk of a machine besides its boot disk. A version has those that were captured with it, by role: data-1, data-2.",
    "event": "One line of the audit trail: who did what to what, and when.",
    "finding": "One thing that the residue scan found. High ones are accepted by name before a release.",
    "firewall set": "Ports that a site opens to sources, under a name. An instance without one is reached by nobody.",
    "first-boot settings": "What makes an instance itself: host name, domain, time zone, network, users, keys, secrets.",
    "generalize": "Remove from a copy of a disk what makes it that machine: identity, keys, logs, histories.",
    "hold": "A named reason that forbids purging a version.",
    "instance": "A machine that was launched from a version. It is followed until it is gone.",
    "launch": "Make machines from a version, each with an identity of its own.",
    "launch rule": "Who may launch what, where; it explains every refusal.",
    "line": "A named sequence of versions for one purpose. Its bare name means its newest released version.",
    "machine": "Any virtual machine at a site.",
    "mark": "A movable name for one version of a line, such as gauge-collector@stable.",
    "operation": "One durable piece of long work, with steps, progress and a log.",
    "part": "Steps that several build sheets include, each with values of its own.",
    "payload": "Files that a build sheet puts into the machine. Its lock has size and SHA-256 of each.",
    "pin-only": "A version that is launched only when it is named exactly.",
    "placement": "The regions where the released versions of a line are kept.",
    "plan": "What a command would do, and everything that forbids it. It changes nothing, and exits 4 with obstacles.",
    "preflight": "Everything that a capture, an import or a launch depends on, checked before it starts.",
    "profile": "An ordered list of typed steps that generalize a disk.",
    "proof sheet": "Class by class what of the source was on the disk, what was done, and what is in the version.",
    "purge": "Delete the bytes of a retired version that nothing else needs. Its record stays.",
    "purpose": "What a version is for: the machines that it wants, whom to ask about it, its terms and labels.",
    "region": "A place with one site and one store of chunks. It has two or more zones.",
    "release": "Offer a version for launches.",
    "replica": "A version's chunks in one region.",
    "repository": "A git repository, of which one branch's sheets are the account's. A push can start what asks for it.",
    "residue": "What still identifies the source or endangers its owner: identity, credentials, histories, leases.",
    "retire": "Refuse new launches of a version. Its instances keep running.",
    "share": "One account's grant of a line or a version to another account, which accepts or declines it.",
    "site": "A cloud or a hypervisor that Bathotype is connected to.",
    "staged": "The state of a version that is recorded, but not offered yet.",
    "subnet": "A part of a network at a site. Instances get their addresses from it.",
    "sunset": "The state of a version whose end is announced: launches warn until it retires on its day.",
    "version": "Immutable disk content with its record, written line@1.4.0.",
    "zone": "A part of a region that fails on its own.",
}


def table() -> str:
    """All of them as the table of docs/words.md."""
    return "\n".join(
        ["| word | meaning |", "| --- | --- |", *(f"| {word} | {about} |" for word, about in WORDS.items())]
    )
