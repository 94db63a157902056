"""Collecting remarks: what a check found, each with why and what to do."""

from __future__ import annotations

from dataclasses import dataclass, field

from bathotype.core.errors import Refused
from bathotype.wire.machines import Remark


@dataclass
class Remarks:
    """Everything that was checked before something starts; any obstacle forbids it."""

    items: list[Remark] = field(default_factory=list)

    @property
    def obstacles(self) -> list[Remark]:
        """What forbids it."""
        return [r for r in self.items if r.outcome == "obstacle"]

    @property
    def refusals(self) -> list[str]:
        """The same as sentences."""
        return [f"{r.why} {r.advice}".strip() for r in self.obstacles]

    @property
    def warnings(self) -> list[str]:
        """What does not forbid it, as sentences."""
        return [f"{r.why} {r.advice}".strip() for r in self.items if r.outcome == "warning"]

    def ok(self, check: str, why: str) -> None:
        """Note something that is as it should be."""
        self.items.append(Remark(check=check, outcome="ok", why=why))

    def warn(self, check: str, why: str, advice: str = "") -> None:
        """Note something to know."""
        self.items.append(Remark(check=check, outcome="warning", why=why, advice=advice))

    def forbid(self, check: str, why: str, advice: str = "") -> None:
        """Note an obstacle."""
        self.items.append(Remark(check=check, outcome="obstacle", why=why, advice=advice))

    def refuse(self, what: str, code: str) -> None:
        """Raise `Refused` with every obstacle, if there is one; ``what`` cannot be done then."""
        if not self.obstacles:
            return
        raise Refused(
            f"{what}: {' '.join(r.why for r in self.obstacles)}",
            advice=" ".join(r.advice for r in self.obstacles if r.advice),
            code=code,
        )
