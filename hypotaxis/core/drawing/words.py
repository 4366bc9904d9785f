"""Words that have to fit a place in a picture."""


def short(text: str, length: int) -> str:
    """A text in so many characters.

    >>> short("a long label", 6), short("short", 6)
    ('a lon…', 'short')
    """
    return text if len(text) <= length else text[: length - 1].rstrip() + "…"
