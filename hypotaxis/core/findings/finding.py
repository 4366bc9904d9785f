"""What a rule found: what, why it matters, what to do, and where."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from hypotaxis.core.plan import Plan

WRONG, RISKY, WORTH_KNOWING = "wrong", "risky", "worth knowing"


@dataclass(frozen=True, kw_only=True)
class Finding:
    """One thing found. rule: name of the rule, filled in by `check`; about: uid it belongs to; also: uids of others it
    concerns as much; socket: uid of the socket to look at, if any."""

    severity: str
    about: str
    title: str
    message: str
    remedy: str
    socket: str = ""
    also: tuple[str, ...] = ()
    rule: str = ""

    def concerns(self, uid: str) -> bool:
        """Whether the finding belongs to the thing with this uid."""
        return uid == self.about or uid in self.also


Rule = Callable[[Plan], Iterator[Finding]]
"""A rule is a function from the plan to findings; its name, with dashes, is the rule's."""
