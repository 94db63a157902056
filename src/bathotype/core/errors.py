"""What can go wrong, as the layers above report it.

Every error carries a stable ``code`` (for programs), a message (what is wrong) and ``advice`` (what to do).  Its class
says once how it is reported: by which HTTP status and title (RFC 9110, RFC 9457), and by which exit code of the command
line.
"""

from __future__ import annotations

from typing import ClassVar

FAILED, USAGE, NOT_FOUND, REFUSED, NOT_SIGNED_IN = 1, 2, 3, 4, 5


class BathotypeError(Exception):
    """Base of every error that a user may meet."""

    code = "failed"
    status: ClassVar[int] = 500
    title: ClassVar[str] = "Failed"
    exit_code: ClassVar[int] = FAILED

    def __init__(self, message: str, *, advice: str = "", code: str | None = None, about: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.advice = advice
        #: What it is about, where a program goes on with that: a version's reference.
        self.about = about
        if code is not None:
            self.code = code

    def __str__(self) -> str:
        return f"{self.message} {self.advice}".strip()


class Invalid(BathotypeError):
    """The input itself is wrong; the same call can never succeed."""

    code = "invalid"
    status, title, exit_code = 422, "Not valid", USAGE


class NotSignedIn(BathotypeError):
    """No token or session was sent, or one that is unknown, expired or revoked."""

    code = "not-signed-in"
    status, title, exit_code = 401, "Not signed in", NOT_SIGNED_IN


class NotFound(BathotypeError):
    """What was named does not exist, or not for this account."""

    code = "not-found"
    status, title, exit_code = 404, "Not found", NOT_FOUND


class Refused(BathotypeError):
    """A rule or a state forbids it now."""

    code = "refused"
    status, title, exit_code = 409, "Refused", REFUSED


class Forbidden(Refused):
    """The caller's role, or its token, does not allow it."""

    code = "forbidden"
    status, title = 403, "Forbidden"


class ChangedMeanwhile(Refused):
    """Somebody else changed what the caller has seen (RFC 9110, If-Match), or it is there already (If-None-Match)."""

    code = "changed-meanwhile"
    status, title = 412, "Changed meanwhile"


class TooMany(BathotypeError):
    """More at once than there is room for: a moment later it may go."""

    code = "too-many"
    status, title = 429, "Too many requests"


class Damaged(BathotypeError):
    """Bytes are not what their digest says, or a structure on disk is broken."""

    code = "damaged"
    title = "Damaged"


class Unavailable(BathotypeError):
    """Another system does not answer, or answers that it cannot just now."""

    code = "unavailable"
    status, title = 503, "Unavailable"


class OutOfSpace(BathotypeError):
    """A store or the scratch space has no room."""

    code = "out-of-space"
    status, title = 507, "Out of space"


def class_for_status(status: int) -> type[BathotypeError]:
    """The class that is reported by an HTTP status; `BathotypeError` for a status of no other class."""
    return _BY_STATUS.get(status, BathotypeError)


_BY_STATUS: dict[int, type[BathotypeError]] = {
    kind.status: kind
    for kind in (
        Invalid,
        NotSignedIn,
        NotFound,
        Refused,
        Forbidden,
        ChangedMeanwhile,
        TooMany,
        Unavailable,
        OutOfSpace,
    )
}
