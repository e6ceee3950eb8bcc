"""What a check is: what it asks, what it found and where, and what would put it right."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from cloudrift.deliver.checks.heard import Heard
from cloudrift.loop.model.loop import Loop

Severity = Literal["must", "should", "fine"]
SEVERITIES: tuple[Severity, ...] = ("must", "should", "fine")


@dataclass(frozen=True, kw_only=True)
class Change:
    """An edit of the loop that would put right what was found, in few words."""

    words: str
    edit: Callable[[Loop], Loop]


@dataclass(frozen=True, kw_only=True)
class Finding:
    """What a check found: how serious it is, what was measured, where.

    ``value`` is the number that the severity comes from, where there is one. The ``change`` leads
    to ``fine``, or as near to it as an edit can.
    """

    severity: Severity
    measured: str
    where: str = ""
    value: float | None = None
    change: Change | None = None


@dataclass(frozen=True, kw_only=True)
class Check:
    """Something that is looked at before a loop is handed over.

    Parameters
    ----------
    about : what is asked, with its limit, in a sentence.
    find : measures it; None where there is nothing to say it of.
    """

    name: str
    label: str
    about: str
    find: Callable[[Heard], Finding | None]


@dataclass(frozen=True, kw_only=True)
class Checked:
    """A check and what it found."""

    check: Check
    finding: Finding

    @property
    def severity(self) -> Severity:
        """How serious it is."""
        return self.finding.severity


def graded(value: float, *, should: float, must: float = float("inf")) -> Severity:
    """Return how serious a value is that should lie at or below a limit, and must below another."""
    if value > must:
        return "must"
    return "should" if value > should else "fine"
