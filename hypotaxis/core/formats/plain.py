"""Values as JSON has them, and back."""

from typing import Any, TypeVar

from cattrs.preconf.json import make_converter

_Kind = TypeVar("_Kind")
_converter = make_converter()
_converter.register_unstructure_hook(bytes, bytes.hex)
_converter.register_structure_hook(bytes, lambda text, _: bytes.fromhex(text))


def to_json(value: Any) -> Any:
    """A frozen value, with all in it, as plain data; bytes as hexadecimal digits."""
    return _converter.unstructure(value)


def from_json(kind: type[_Kind], plain: Any) -> _Kind:
    """The value of this kind again; fields that are missing have their defaults, unknown ones are left out."""
    return _converter.structure(plain, kind)


def as_lists(value: Any) -> Any:
    """Tuples, however deep, as lists; anything else as it is.

    >>> as_lists(((1, 2), "a"))
    [[1, 2], 'a']
    """
    return [as_lists(item) for item in value] if isinstance(value, tuple) else value


def as_tuples(value: Any) -> Any:
    """Lists, however deep, as tuples; anything else as it is."""
    return tuple(as_tuples(item) for item in value) if isinstance(value, list) else value
