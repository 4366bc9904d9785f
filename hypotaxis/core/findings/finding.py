"""What a rule found: what, why it matters, what to do, and where."""

import hashlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import groupby

from hypotaxis.core.plan import Plan

WRONG, RISKY, WORTH_KNOWING = "wrong", "risky", "worth knowing"


@dataclass(frozen=True)
class Fix:
    """A remedy in one move. words: what it does; apply: the plan after it; short: for a button where words are long."""

    words: str
    apply: Callable[[Plan], Plan]
    short: str = ""

    @property
    def button(self) -> str:
        """What a button says that leads to it."""
        return self.short or self.words


@dataclass(frozen=True)
class Lead:
    """Where the remedy is made by hand. kind: "instrument" or "loop", which are defined of the box `about`, "cable",
    which is drawn from the socket `about`, "panels", the settings of the box `about`, "ends", what the studio's
    inputs are matched to, or "sync", who keeps step; words: what a button says that leads there."""

    kind: str
    words: str
    about: str


@dataclass(frozen=True, kw_only=True)
class Finding:
    """One thing found."""

    severity: str
    about: str
    """Uid it belongs to."""
    title: str
    message: str
    remedy: str
    socket: str = ""
    """Uid of the socket to look at, if any."""
    also: tuple[str, ...] = ()
    """Uids of others it concerns as much."""
    facts: tuple[str, ...] = ()
    """What it rests on besides (numbers, uids of cables)."""
    rule: str = ""
    """Name of the rule, filled in by `check`."""
    fix: Fix | None = field(default=None, compare=False)
    """The remedy in one move, where there is one."""
    lead: Lead | None = field(default=None, compare=False)
    """Where it is made by hand, for what needs to be told more."""

    def concerns(self, uid: str) -> bool:
        """Whether the finding belongs to the thing with this uid."""
        return uid == self.about or uid in self.also

    @property
    def cause(self) -> str:
        """What it rests on, in uids and values and never in names: the same as long as the cause is the same."""
        return "|".join([self.rule, self.severity, self.about, *sorted(self.also), self.socket, *self.facts])

    @property
    def key(self) -> str:
        """A short name of this finding with this cause, for addresses."""
        return hashlib.sha256(self.cause.encode()).hexdigest()[:16]


Rule = Callable[[Plan], Iterator[Finding]]
"""A rule is a function from the plan to findings; its name, with dashes, is the rule's."""


MOST_APART = 2
"""Findings of one kind that are told one by one."""


def alike(findings: Sequence[Finding]) -> list[tuple[Finding, list[Finding]]]:
    """Findings in their order, each with those that are told together with it: more than MOST_APART of one rule and
    severity in a row are one thing said of many."""
    groups = []
    for _, run in groupby(findings, key=lambda one: (one.rule, one.severity)):
        first, *others = run
        if len(others) < MOST_APART:
            groups += [(one, []) for one in (first, *others)]
        else:
            groups.append((first, others))
    return groups


def listed(names: list[str]) -> str:
    """Names in a row, the last with "and".

    >>> listed(["Sedge", "Bittern", "Alder"])
    'Sedge, Bittern and Alder'
    """
    return " and ".join(filter(None, [", ".join(names[:-1]), *names[-1:]]))


def counted(number: int, one: str, many: str = "") -> str:
    """A number with its word.

    >>> counted(1, "box", "boxes"), counted(3, "hub")
    ('1 box', '3 hubs')
    """
    return f"{number} {one if number == 1 else many or one + 's'}"
