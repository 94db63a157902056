"""References: ``line``, ``line@1.4.0``, ``line@mark``, each with ``account/`` before it where it is another's."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

from bathotype.core.errors import Invalid
from bathotype.core.lifecycle.numbers import parse_number

_NAME = re.compile(r"[a-z][a-z0-9]*(?:-[a-z0-9]+)*")
_MOST_NAME = 63


@dataclass(frozen=True)
class Reference:
    """What names a version.  At most one of ``number`` and ``mark`` is set; neither means the newest released."""

    line: str
    account: str | None = None
    number: str | None = None
    mark: str | None = None

    @property
    def exact(self) -> bool:
        """Whether it names one version for ever."""
        return self.number is not None

    def __str__(self) -> str:
        prefix = f"{self.account}/" if self.account else ""
        suffix = self.number or self.mark
        return f"{prefix}{self.line}@{suffix}" if suffix else f"{prefix}{self.line}"


def check_name(text: str, what: str) -> str:
    """A name of an account, line, mark and the like.  Raises `Invalid` with the rule."""
    if len(text) > _MOST_NAME or not _NAME.fullmatch(text):
        raise Invalid(
            f"{text!r} cannot name {'an' if what[0] in 'aeiou' else 'a'} {what}.",
            advice="Use lower-case letters, digits and single hyphens, beginning with a letter, 63 at most.",
        )
    return text


@lru_cache(maxsize=1024)
def parse_reference(text: str) -> Reference:
    """Raises `Invalid` where the text is no reference."""
    account, slash, rest = text.rpartition("/")
    line, at, suffix = rest.partition("@")
    if (slash and not account) or (at and not suffix):
        raise Invalid(
            f"{text!r} is not a reference.", advice="Write line, line@1.4.0, line@mark or account/line@1.4.0."
        )
    check_name(line, "line")
    if account:
        check_name(account, "account")
    if not at:
        return Reference(line, account or None)
    if suffix[0].isdigit():
        return Reference(line, account or None, number=str(parse_number(suffix)))
    return Reference(line, account or None, mark=check_name(suffix, "mark"))
