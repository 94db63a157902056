"""What can go wrong, as the layers above report it.

Every error carries a stable ``code`` (for programs), a message (what is wrong) and ``advice`` (what to do).
The service turns each class into one HTTP status and the command line into one exit code.
"""

from __future__ import annotations


class BathotypeError(Exception):
    """Base of every error that a user may meet."""

    code = "failed"

    def __init__(self, message: str, *, advice: str = "", code: str | None = None) -> None:
        super().__init__(message)
        self.message = message
        self.advice = advice
        if code is not None:
            self.code = code

    def __str__(self) -> str:
        return f"{self.message} {self.advice}".strip()


class Invalid(BathotypeError):
    """The input itself is wrong; the same call can never succeed."""

    code = "invalid"


class NotFound(BathotypeError):
    """What was named does not exist, or not for this account."""

    code = "not-found"


class Refused(BathotypeError):
    """A rule or a state forbids it now."""

    code = "refused"


class Forbidden(Refused):
    """The caller's role, or its token, does not allow it."""

    code = "forbidden"


class Damaged(BathotypeError):
    """Bytes are not what their digest says, or a structure on disk is broken."""

    code = "damaged"


class Unavailable(BathotypeError):
    """Another system does not answer, or answers that it cannot just now."""

    code = "unavailable"


class OutOfSpace(BathotypeError):
    """A store or the scratch space has no room."""

    code = "out-of-space"
