"""What has been worked out about a frozen value, kept as long as it is.

Pages, rules and pictures ask the same of a rig many times; a rig that changes is another value, with nothing kept yet.
"""

from collections import defaultdict
from collections.abc import Callable
from functools import cached_property, wraps
from typing import Any, Concatenate, ParamSpec, TypeVar


class Keeping:
    """A frozen value with which answers are kept."""

    @cached_property
    def kept(self) -> dict[Callable, dict[tuple, Any]]:
        """What functions have worked out about it (see `kept_with_it`)."""
        return defaultdict(dict)


_Value = TypeVar("_Value", bound=Keeping)
_Asked = ParamSpec("_Asked")
_Answer = TypeVar("_Answer")


def kept_with_it(
    work: Callable[Concatenate[_Value, _Asked], _Answer],
) -> Callable[Concatenate[_Value, _Asked], _Answer]:
    """A function of such a value and of hashable ones that is worked out once for each as long as the value stays. What
    it answers is shared, so nobody may change it."""

    @wraps(work)
    def answer(value: _Value, *asked: _Asked.args) -> _Answer:
        answers = value.kept[work]
        if asked not in answers:
            answers[asked] = work(value, *asked)
        return answers[asked]

    return answer
