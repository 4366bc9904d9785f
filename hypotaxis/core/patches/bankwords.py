"""What does a line of prose say of a bank's numbers: which MSB, which LSB, and could it mean something else?

Manuals name the same two numbers in many ways: MSB 81 LSB 2, CC#0 = 81, CC#32 = 2, Bank Select 81/2, B0 00 51 B0 20 02.
A number behind the word controller names the controller (0 and 32 are bank select, MIDI 1.0 Detailed Specification) and
not its value. Where a line can be read in two ways, the likelier is taken and the other is told.
"""

import re
from collections.abc import Iterable
from dataclasses import dataclass

from hypotaxis.core.midi.programs import BANK_LSB, BANK_MSB
from hypotaxis.core.units import whole_of

_NUMBER = r"(?:0x[0-9a-f]{1,2}|\$[0-9a-f]{1,2}|[0-9a-f]{1,3}h|\d{1,5})(?![\w])"
_CONTROLLER = (
    r"(?:cc|ctrl|contr\.?|controll?er|controleur|controlador|controllo|control(?:\s+change)?|contrôleur)"
    r"\s*(?:no\.?|nr\.?|number|n°|nº)?\s*[#:]?\s*"
)
_WORDS = re.compile(
    rf"""
    (?P<wire>\bb[0-9a-f]h?\s+(?:00|0x00|00h)\s+(?P<wire_msb>[0-9a-f]{{2}})h?(?:\s+b[0-9a-f]h?)?\s+(?:20|0x20|20h)\s+(?P<wire_lsb>[0-9a-f]{{2}})h?\b)
  | (?P<pair>\b{_CONTROLLER}0{{1,2}}(?:h\b)?\s*(?:[/,&+-]|and|und|et|y|e)\s*(?:{_CONTROLLER})?(?:32|20h)(?!\d))
  | (?P<msb>\b(?:{_CONTROLLER})0{{1,3}}h?(?![\w])|\bmsb\b)
  | (?P<lsb>\b(?:{_CONTROLLER})(?:0?32|20h|0x20)(?![\w])|\blsb\b)
  | (?P<select>\bbank\s*[-_]?\s*(?:select|change|wahl|nummer|number|no\.?|nr\.?)\b|\bbankwahl\b)
  | (?P<beside>
      \b(?:pc|pgm|prog\w*|patch\w*|preset\w*|voices?|sounds?|notes?|page|p\.)\s*\#?\s*\d+(?:\s*[-–~]\s*\d+)?(?!\w))
  | (?P<named>
      \b(?:bank|group|set|user|internal|card|rom|ram|part|banque|banco|banca)\s*[-#:]?\s*\d{{1,3}}(?![\w/,;.]*\d))
  | (?P<number>(?<![\w.]){_NUMBER})
    """,
    re.IGNORECASE | re.VERBOSE,
)


HEXADECIMAL = r"(?:0x|\$)[0-9A-Fa-f]{2}|[0-9A-Fa-f]{2}[hH]|[0-7][A-Fa-f]"
"""A number that can only be hexadecimal: marked, or with a letter among its digits."""
_SAYS_HEXADECIMAL = re.compile(r"\bhex", re.IGNORECASE)
_MAY_BE = re.compile(r"msb|lsb|bank|cc|ctrl|contr|\bb[0-9a-f]h?\s", re.IGNORECASE)
_KEYS = {BANK_MSB: "msb", BANK_LSB: "lsb"}


@dataclass(frozen=True)
class BankNumbers:
    """MSB and LSB (0–127, None where the line names none); doubt: the other way to read it, a sentence, or ""."""

    msb: int | None = None
    lsb: int | None = None
    doubt: str = ""

    @property
    def named(self) -> bool:
        """Whether the line says anything of bank numbers, be it doubtful."""
        return (self.msb, self.lsb, self.doubt) != (None, None, "")


@dataclass(frozen=True)
class _Word:
    kind: str
    value: int | None = None
    equals: bool = False


def bank_numbers(text: str) -> BankNumbers:
    """What a line says of a bank's numbers.

    >>> bank_numbers("Bank Select: CC#0 = 81, CC#32 = 2")
    BankNumbers(msb=81, lsb=2, doubt='')
    >>> bank_numbers("Bank 3 (MSB 81)").msb
    81
    """
    if not _MAY_BE.search(text):
        return BankNumbers()
    words = _read(text)
    kinds = {word.kind for word in words}
    if not kinds & {"msb", "lsb", "select", "pair", "wire"}:
        return BankNumbers()
    if "wire" in kinds:
        wire = next(word for word in words if word.kind == "wire")
        return BankNumbers(wire.value >> 7, wire.value & 127)
    keys, numbers = _without_repeats(words)
    if not keys:
        return _after_select(numbers)
    values, other = _assigned(keys, numbers)
    doubt = ""
    if other and other != values:
        doubt = f"{_told(values)}; or is it {_told(other)}?"
    found = {kind: value for kind, value in values.items() if value is not None and value <= 127}
    for kind, value in values.items():
        if value is not None and value > 127:
            doubt = f"{kind.upper()} {value} is no bank number: 0 to 127. It is left out."
    return BankNumbers(found.get("msb"), found.get("lsb"), doubt)


def says_only_bank_numbers(text: str) -> bool:
    """Whether a line holds nothing but a bank's numbers and the words for them.

    >>> [says_only_bank_numbers(line) for line in ("81 (CC0), 2 (CC32)", "5 Lead (CC0)", "81 Lead")]
    [True, False, False]
    """
    return bank_numbers(text).named and not re.search(r"[^\W\d_]", _WORDS.sub(" ", text))


def _read(text: str) -> list[_Word]:
    """The words of a line that matter, in order."""
    hexadecimal = _SAYS_HEXADECIMAL.search(text) is not None
    words: list[_Word] = []
    for found in _WORDS.finditer(text):
        kind = found.lastgroup if found.lastgroup not in ("wire_msb", "wire_lsb") else "wire"
        if kind == "wire":
            value = int(found["wire_msb"], 16) << 7 | int(found["wire_lsb"], 16) & 127
            words.append(_Word("wire", value))
        elif kind == "pair":
            words += [_Word("msb"), _Word("lsb")]
        elif kind == "number":
            value = number_in(found[0], hexadecimal)
            equals = re.search(r"[=:]\s*$", text[: found.start()]) is not None
            # Behind a word for it, 0 = … and 32 = … name the controllers.
            names = value in _KEYS and words and re.match(r"\s*[=:]\s*\$?\d", text[found.end() :])
            if names and value == BANK_LSB and words[-1] == _Word("number", BANK_MSB):
                words[-1] = _Word("msb")
            words.append(_Word(_KEYS[value]) if names else _Word("number", value, equals))
        elif kind in ("msb", "lsb", "select"):
            words.append(_Word(kind))
    return words


def number_in(text: str, hexadecimal: bool = False) -> int | None:
    """The number in a text: decimal, or hexadecimal where it is marked (0x1F, 1Fh, $1F) or said so; None for no number.

    >>> [number_in(text) for text in ("31", "0x1F", "1Fh", "$1f", "1F", "-")]
    [31, 31, 31, 31, None, None]
    """
    text = text.strip()
    marked = re.fullmatch(r"(?:0x|\$)([0-9a-f]{1,4})|([0-9a-f]{1,4})h", text, re.IGNORECASE)
    if marked:
        return int(marked[1] or marked[2], 16)
    if hexadecimal and re.fullmatch(r"[0-9a-f]{1,4}", text, re.IGNORECASE):
        return int(text, 16)
    return whole_of(text)


def counts_in_sixteens(head: str, cells: Iterable[str]) -> bool:
    """Whether a column counts in sixteens: its head says so, or numbers stand in it that can only be hexadecimal."""
    return _SAYS_HEXADECIMAL.search(head) is not None or any(re.fullmatch(HEXADECIMAL, cell) for cell in cells)


def _without_repeats(words: list[_Word]) -> tuple[list[tuple[str, int]], list[tuple[_Word, int]]]:
    """(keys, numbers) with their places; the same key said twice in a row (MSB, CC 0) is one."""
    keys: list[tuple[str, int]] = []
    numbers: list[tuple[_Word, int]] = []
    select = False
    for place, word in enumerate(words):
        if word.kind == "number" and word.value is not None:
            numbers.append((word, place))
        elif word.kind in ("msb", "lsb"):
            if keys and keys[-1][0] == word.kind and not (numbers and numbers[-1][1] > keys[-1][1]):
                continue
            keys.append((word.kind, place))
        elif word.kind == "select":
            select = True
    if not keys and select and [w.value for w, _ in numbers[:2]] == [BANK_MSB, BANK_LSB] and len(numbers) == 4:
        return [("msb", 0), ("lsb", 0)], numbers[2:]
    return keys, numbers


def _assigned(
    keys: list[tuple[str, int]], numbers: list[tuple[_Word, int]]
) -> tuple[dict[str, int | None], dict[str, int | None] | None]:
    """(which number belongs to which key, another way to read it or None)."""
    names = [kind for kind, _ in keys]
    last_key = keys[-1][1]
    behind = [word.value for word, place in numbers if place > last_key]
    between = [word for word, place in numbers if keys[0][1] < place < last_key]
    if len(set(names)) == len(names) == 2 and len(behind) >= 2 and not between:
        # Both are named first: MSB/LSB 81/2.
        return dict(zip(names, behind, strict=False)), None
    after: dict[str, int | None] = {}
    before: dict[str, int | None] = {}
    signs = True
    for at, (kind, place) in enumerate(keys):
        end = keys[at + 1][1] if at + 1 < len(keys) else 10**6
        begin = keys[at - 1][1] if at else -1
        following = [word for word, where in numbers if place < where < end]
        leading = [word for word, where in numbers if begin < where < place]
        if following:
            after.setdefault(kind, following[0].value)
            signs = signs and following[0].equals
        if leading:
            before.setdefault(kind, leading[-1].value)
    wanted = set(names)
    if set(after) == wanted:
        return after, before if set(before) == wanted and not signs else None
    if set(before) == wanted:
        return before, None
    return after or before, None


def _after_select(numbers: list[tuple[_Word, int]]) -> BankNumbers:
    """What the words bank select say without naming MSB or LSB."""
    values = [word.value for word, _ in numbers if word.value is not None]
    if not values:
        return BankNumbers()
    if len(values) >= 2 and max(values[:2]) <= 127:
        if values[:2] == [BANK_MSB, BANK_LSB]:
            return BankNumbers(
                None, None, "Are 0 and 32 the bank's numbers, or the two controllers without their values?"
            )
        return BankNumbers(*values[:2])
    (value, *_) = values
    if value <= 127:
        return BankNumbers(value, None, f"MSB {value}; or is it the LSB, or only the bank's name?")
    if value < 128 * 128:
        msb, lsb = divmod(value, 128)
        return BankNumbers(msb, lsb, f"{value} is taken as both in one number, MSB {msb} and LSB {lsb}; or is it not?")
    return BankNumbers(None, None, f"{value} is no bank number: 0 to 127.")


def _told(values: dict[str, int | None]) -> str:
    return ", ".join(f"{kind.upper()} {value}" for kind, value in sorted(values.items(), reverse=True))
