"""Tuples as JSON has them, and back."""

from typing import Any


def as_lists(value: Any) -> Any:
    """Tuples, however deep, as lists; anything else as it is.

    >>> as_lists(((1, 2), "a"))
    [[1, 2], 'a']
    """
    return [as_lists(item) for item in value] if isinstance(value, tuple) else value


def as_tuples(value: Any) -> Any:
    """Lists, however deep, as tuples; anything else as it is."""
    return tuple(as_tuples(item) for item in value) if isinstance(value, list) else value
