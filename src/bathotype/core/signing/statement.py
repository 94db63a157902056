"""What is signed of a version: an in-toto Statement v1 with provenance after the pattern of SLSA Provenance v1.

The subject is the version, named by its content digest (BLAKE3 over size and chunk digests, docs/store-format.md).
Whoever the version is shared with reads the statement: of the machine that it was made from, and of the profile, it holds
digests alone.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from bathotype.core.errors import Damaged
from bathotype.core.signing.envelope import BadSignature

_STATEMENT = "https://in-toto.io/Statement/v1"
_PREDICATE = "https://slsa.dev/provenance/v1"
_BUILD_TYPE = "urn:bathotype:version:2"
#: Of versions that a build sheet made: the statement names what went in, and what came of the steps.
_SHEET_BUILD_TYPE = "urn:bathotype:version:3"
#: Of statements that hold source and profile themselves: they are not made any more, and still count.
_OPEN_BUILD_TYPE = "urn:bathotype:version:1"


@dataclass(frozen=True)
class VersionFacts:
    """What a statement says of a version; ``parent`` is the content digest that it descends from."""

    account: str
    line: str
    number: str
    version_id: str
    content_digest: str
    size: int
    mode: str
    source: Mapping[str, Any]
    profile: Mapping[str, Any] | None
    operation: str
    parent: str | None
    created_at: datetime
    #: The proof sheet, of which the statement holds a digest; None for versions from before there were any.
    proof: Mapping[str, Any] | None = None
    #: Role, size and content digest of each disk; a statement lists them where there are several.
    disks: Sequence[Mapping[str, Any]] = ()


def statement_of(facts: VersionFacts, *, build_type: str | None = None) -> dict[str, Any]:
    """The statement about a version.  ``build_type`` is that of one that was made before."""
    of_sheet = "sheet_digest" in facts.source
    build_type = build_type or (_SHEET_BUILD_TYPE if of_sheet else _BUILD_TYPE)
    about: dict[str, Any] = {"mode": facts.mode}
    if build_type == _OPEN_BUILD_TYPE:
        about |= {"source": dict(facts.source), "profile": facts.profile}
    else:
        about |= {"source": digest_of(facts.source), "profile": digest_of(facts.profile)}
    if build_type == _SHEET_BUILD_TYPE:
        about["values"] = digest_of(facts.source.get("values"))
    if facts.proof is not None:
        about["proof"] = digest_of(facts.proof)
    inner: dict[str, Any] = {"version": facts.version_id, "size": facts.size}
    if len(facts.disks) > 1:
        inner["disks"] = [
            {"role": d["role"], "size": d["bytes"], "digest": dict([d["digest"].split(":", 1)])} for d in facts.disks
        ]
    algorithm, _, value = facts.content_digest.partition(":")
    parents = [{"uri": "urn:bathotype:parent", "digest": dict([facts.parent.split(":", 1)])}] if facts.parent else []
    return {
        "_type": _STATEMENT,
        "subject": [{"name": f"{facts.account}/{facts.line}@{facts.number}", "digest": {algorithm: value}}],
        "predicateType": _PREDICATE,
        "predicate": {
            "buildDefinition": {
                "buildType": build_type,
                "externalParameters": about,
                "internalParameters": inner,
                "resolvedDependencies": [
                    *parents,
                    *(_went_in(facts.source) if build_type == _SHEET_BUILD_TYPE else []),
                ],
            },
            "runDetails": {
                **({"byproducts": _came_of(facts.source)} if build_type == _SHEET_BUILD_TYPE else {}),
                "builder": {"id": "urn:bathotype"},
                "metadata": {
                    "invocationId": facts.operation,
                    "finishedOn": facts.created_at.astimezone(UTC).isoformat(timespec="microseconds"),
                },
            },
        },
    }


def _went_in(source: Mapping[str, Any]) -> list[dict[str, Any]]:
    """What a run was made from besides its parent, by digest alone (ResourceDescriptor of in-toto)."""
    found = [("sheet", "blake3", source["sheet_digest"])]
    if base := source.get("base_digest"):
        found.append(("base", *base.split(":", 1)))
    if commit := source.get("commit"):
        found.append(("commit", "gitCommit", commit))
    found += [("payload", "sha256", sha256) for sha256 in sorted(source.get("payload", {}).values())]
    return [_resource(*one) for one in found]


def _came_of(source: Mapping[str, Any]) -> list[dict[str, Any]]:
    """What a run has left besides the version: the record of its steps."""
    return [_resource("steps", "sha256", source["steps_digest"])] if "steps_digest" in source else []


def _resource(what: str, algorithm: str, value: str) -> dict[str, Any]:
    return {"uri": f"urn:bathotype:{what}", "digest": {algorithm: value}}


def digest_of(value: Mapping[str, Any] | None) -> dict[str, str] | None:
    """SHA-256 over a value as JSON, with its names in order and without blanks."""
    if value is None:
        return None
    text = json.dumps(dict(value), sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return {"sha256": hashlib.sha256(text.encode()).hexdigest()}


def check_statement(statement: Mapping[str, Any], facts: VersionFacts) -> None:
    """Raises `BadSignature` unless a signed statement says of a version what its record says."""
    told = statement.get("predicate", {}).get("buildDefinition", {}).get("buildType")
    expected = statement_of(facts, build_type=told if told in (_OPEN_BUILD_TYPE, _BUILD_TYPE) else None)
    if statement != expected:
        raise BadSignature(
            f"{facts.account}/{facts.line}@{facts.number} is not what was signed: "
            f"its record differs in {', '.join(_differences(expected, statement)) or 'its form'}.",
            advice="Do not use this version. Ask its owner.",
        )


def _differences(ours: Any, theirs: Any, at: str = "") -> list[str]:
    if isinstance(ours, Mapping) and isinstance(theirs, Mapping):
        found = []
        for key in sorted({*ours, *theirs}):
            found += _differences(ours.get(key), theirs.get(key), f"{at}.{key}" if at else str(key))
        return found
    return [] if ours == theirs else [at]


def check_digest(facts: VersionFacts, held: str) -> None:
    """Raises `Damaged` unless a manifest's content digest is the signed one."""
    if held != facts.content_digest:
        raise Damaged(
            f"{facts.account}/{facts.line}@{facts.number}: the manifest is of other content than the record.",
            advice="Verify the replica, or use another region.",
            code="digest-differs",
        )
