"""The numbers a box displays, and the program they stand for.

A form turns a place (0, 1, 2 … within a bank) into what the box shows and back. Program on the wire = place modulo 128;
lists that count on beyond 128 go on in the next bank. All forms are common practice.
"""

import re
from collections.abc import Callable
from dataclasses import dataclass

from hypotaxis.core.units import whole_of

PROGRAMS = 128


@dataclass(frozen=True)
class NumberForm:
    """One way of showing numbers. show: place → text, read: text → place or None; example: for choosing."""

    key: str
    title: str
    pattern: str
    show: Callable[[int], str]
    read: Callable[[str], int | None]


def _counting(key: str, title: str, first: int, width: int = 0) -> NumberForm:
    def read(text: str) -> int | None:
        number = whole_of(text)
        return number - first if number is not None and number >= first else None

    return NumberForm(key, title, r"\d{1,4}", lambda place: f"{place + first:0{width}d}", read)


def _eight_by_eight(key: str, title: str, letters: str) -> NumberForm:
    """Groups of eight: the group's sign, then 1–8."""

    def show(place: int) -> str:
        return f"{letters[place // 8 % len(letters)]}{place % 8 + 1}"

    def read(text: str) -> int | None:
        if len(text) != 2 or text[0].upper() not in letters or text[1] not in "12345678":
            return None
        return letters.index(text[0].upper()) * 8 + int(text[1]) - 1

    return NumberForm(key, title, rf"[{letters}{letters.lower()}][1-8]", show, read)


def _lettered_sixty_four() -> NumberForm:
    """A letter a bank of sixty-four, then 11–88."""

    def show(place: int) -> str:
        return f"{chr(65 + place // 64)}{place % 64 // 8 + 1}{place % 8 + 1}"

    def read(text: str) -> int | None:
        if not re.fullmatch(r"[A-Za-z][1-8][1-8]", text):
            return None
        return (ord(text[0].upper()) - 65) * 64 + (int(text[1]) - 1) * 8 + int(text[2]) - 1

    return NumberForm("A11", "A11 to B88: a letter, eight by eight", r"[A-Za-z][1-8][1-8]", show, read)


def _lettered(key: str, title: str, first: int, many: int, digits: int) -> NumberForm:
    """A letter a group, then a number of fixed width."""

    def show(place: int) -> str:
        return f"{chr(65 + place // many)}{place % many + first:0{digits}d}"

    def read(text: str) -> int | None:
        if not re.fullmatch(rf"[A-Za-z]\d{{{digits}}}", text):
            return None
        place = int(text[1:]) - first
        return (ord(text[0].upper()) - 65) * many + place if 0 <= place < many else None

    return NumberForm(key, title, rf"[A-Za-z]\d{{{digits}}}", show, read)


def _grouped() -> NumberForm:
    """A bank's number, a sign, and the number within the bank."""

    def read(text: str) -> int | None:
        found = re.fullmatch(r"(\d{1,2})[-./:](\d{1,3})", text)
        if not found or not int(found[1]) >= 1 or not 1 <= int(found[2]) <= PROGRAMS:
            return None
        return (int(found[1]) - 1) * PROGRAMS + int(found[2]) - 1

    title = "1-01 to 8-128: a bank's number, then 1 to 128"
    pattern = r"\d{1,2}[-./:]\d{1,3}"
    return NumberForm("1-01", title, pattern, lambda place: f"{place // PROGRAMS + 1}-{place % PROGRAMS + 1:02d}", read)


def _hexadecimal(key: str, title: str, first: int) -> NumberForm:
    def read(text: str) -> int | None:
        place = int(re.sub(r"0x|[$hH]", "", text), 16) - first
        return place if 0 <= place < PROGRAMS else None

    return NumberForm(key, title, r"(?:0x|\$)?[0-9A-Fa-f]{2}[hH]?", lambda place: f"{place + first:02X}", read)


FORMS: dict[str, NumberForm] = {
    form.key: form
    for form in (
        _counting("1", "1 to 128", 1),
        _counting("0", "0 to 127", 0),
        _counting("001", "001 to 128", 1, 3),
        _counting("000", "000 to 127", 0, 3),
        _eight_by_eight("11", "11 to 88: eight by eight in digits", "12345678"),
        _eight_by_eight("A1", "A1 to P8: eight by eight in letters", "ABCDEFGHIJKLMNOP"),
        _lettered_sixty_four(),
        _lettered("A01/64", "A01 to B64: a letter and two digits, 64 each", 1, 64, 2),
        _lettered("A01/32", "A01 to D32: a letter and two digits, 32 each", 1, 32, 2),
        _lettered("A01/100", "A01 to …99: a letter and two digits, 99 each", 1, 99, 2),
        _lettered("A00/100", "A00 to …99: a letter and two digits from 00", 0, 100, 2),
        _grouped(),
        _lettered("A001", "A001 to A128: a letter and three digits, a bank each", 1, 128, 3),
        _hexadecimal("00h", "00 to 7F: hexadecimal, as on the wire", 0),
        _hexadecimal("01h", "01 to 80: hexadecimal, counting from 1", 1),
    )
}
"""By key, the plainest first."""
HEXADECIMAL = ("00h", "01h")
"""Forms that count in sixteens."""


def shown(form: str, place: int) -> str:
    """What a box shows for a place of a bank.

    >>> [shown(key, 9) for key in ("1", "0", "001", "11", "A1", "A11", "A01/64")]
    ['10', '9', '010', '22', 'B2', 'A22', 'A10']
    """
    return FORMS[form].show(place)
