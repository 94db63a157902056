"""Forms of texts: patterns for fields of models, each with the words in which another text is refused.

A regular expression says what is right to who reads regular expressions; `bathotype.core.faults` takes the words.
"""

from __future__ import annotations

_WORDS: dict[str, str] = {}


def form(pattern: str, words: str) -> str:
    """A pattern for a field.  A text that does not match it "must be" what the words say: ``a name of small letters``."""
    _WORDS[pattern] = words
    return pattern


def words_of(pattern: str) -> str | None:
    """The words of a pattern; None for one that was given none."""
    return _WORDS.get(pattern)


SHA256 = form("^[0-9a-f]{64}$", "a SHA-256: 64 hexadecimal digits in lower case")
FILE_MODE = form("^[0-7]{3,4}$", "a file mode in octal digits, such as 0644")
NAME = form(
    r"^[a-z][a-z0-9]*(?:-[a-z0-9]+)*$", "lower-case letters, digits and single hyphens, beginning with a letter"
)
STEP_ID = form("^[a-z][a-z0-9-]*$", "lower-case letters, digits and hyphens, beginning with a letter")
BUCKET_OBJECT = form(r"^s3://[^/]+/.+$", "an address such as s3://halvane-images/gauge.qcow2")
DOMAIN = form(
    r"^[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?(?:\.[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?)*$",
    "a domain name, such as tide.example",
)
#: As useradd(8) takes it.
GUEST_ACCOUNT = form(
    r"^[a-z_][a-z0-9_-]{0,31}$", "lower-case letters, digits, _ and -, beginning with a letter or _, 32 at most"
)
