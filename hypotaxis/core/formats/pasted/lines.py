"""The lines of a pasted text without what a page or a list puts around them; what is rubbish, what is a head?"""

import html
import re
from dataclasses import dataclass, replace

from hypotaxis.core.patches.bankwords import HEXADECIMAL
from hypotaxis.core.patches.heads import BANK, CATEGORY, FILLERS, NAME, NUMBER, PROGRAM, SOUND, plain

RUBBISH = re.compile(
    r"(page|p\.|seite|pág\.|página|pagina|ページ)?\s*[-–—]?\s*\d{1,4}\s*([-–—/]|of)?\s*\d{0,4}\s*[-–—]?"
    r"|.*(www\.|https?://|©|\(c\) ?\d{4}|all rights).*",
    re.IGNORECASE,
)
CONTINUED = re.compile(r"\(?\b(continued|cont(\.|'d)?)(?!\w)( (on|from|over|overleaf)\b[\w ]*)?\)?", re.IGNORECASE)
_BANK_WORDS = "|".join(
    sorted(BANK | {"preset", "presets", "user", "internal", "card", "rom", "ram", "library", "part"})
)
BANK_WORD = re.compile(rf"(?<![^\W\d_])({_BANK_WORDS})(?![^\W\d_])", re.IGNORECASE)
TOKEN = rf"(?:{HEXADECIMAL}|[A-Za-z]?-?\d{{1,4}}|\d{{1,2}}[-./:]\d{{1,3}})"
_MARKED = re.compile(
    r"(?P<mark>(?:prog|program(?:me|ma|m|a)?|patch|preset|prst|pre|no|nr|num|number|num[eé]ro|n[°º]|№"
    r"|int|ext|usr|user|crd|card|rom|ram|exp)(?![^\W\d_]))"
    r"\s*[-.:_#]*\s*(?=#?[A-Za-z]?\d{1,4}(?:[-./:]\d{1,3})?[\s.:)\]=-]+.*[^\W\d_])",
    re.IGNORECASE,
)
"""A word before a number that stands before a name: Patch 01 …, n° 1 : …, INT-A11 …"""
_BEFORE_ALL = re.compile(
    rf"(?P<mark>(?:{_BANK_WORDS})\s*[-#:]?\s*(?:[A-Z]|\d{{1,3}}))\s*[/|,:;·>–—-]+\s*(?=#?{TOKEN}[\s.:)\]=-]+.*[^\W\d_])",
    re.IGNORECASE,
)
"""The bank before each number: Bank 1 / 001 …"""
_LEADERS = re.compile(r"(\s?[.·‥]){3,}|(\s?[…‥])+|_{3,}|(\s-){3,}")
_LAST_NUMBER = re.compile(r"(?<!\d)\d{1,4}\s*$")
_LEADING = re.compile(r"(?:\.\s?){2}\.$|[…‥]$|···$|___$|-\s-\s-$")
_EMPHASIS = re.compile(r"(\*\*|__|`)(?=\S)(.+?)(?<=\S)\1|(?<![\w*])\*(?=\S)([^*]+?)(?<=\S)\*(?![\w*])")
_TAGS = re.compile(r"</?(?:b|i|em|strong|span)>|(</?(?:td|tr|li|ul|ol|p|br)\s*/?>)", re.IGNORECASE)
_LISTED = re.compile(rf"[-*+–—]\s+(?=[#(\[]?{TOKEN}[\s.:)\]=/-])")


LONGEST_LINE = 1000
"""Characters that are read of a line."""


@dataclass(frozen=True)
class Line:
    """A line of the text: its number, what is left of it without leaders and ornaments, the bank that the word before
    its number begins, and whether dots led the eye to what stands last on it."""

    number: int
    text: str
    bank: str = ""
    led: bool = False


def lines_of(text: str) -> list[Line]:
    """Lines without ornaments; a run of dots that leads the eye becomes a gap."""
    text = html.unescape(_TAGS.sub(lambda tag: "  " if tag[1] else "", text))
    for sign, instead in {"\r\n": "\n", "\r": "\n", "\ufeff": "", "\u00a0": " ", "\u3000": "  ", "\u00ad": ""}.items():
        text = text.replace(sign, instead)
    found = []
    for number, line in enumerate(text.split("\n"), start=1):
        bare = _narrowed(line)[:LONGEST_LINE]
        bare = _EMPHASIS.sub(lambda mark: mark[2] or mark[3], bare)
        led = _leads_to_number(bare)
        bare = _LEADERS.sub("   ", bare).strip(" \t•·*†‡▪►|")
        bare = re.sub(r"\|", "  ", "" if re.fullmatch(r"[-+=_|\s]+", bare) else bare)
        bare = _narrowed(bare)
        listed = None if RUBBISH.fullmatch(bare) else _LISTED.match(bare)
        found.append(Line(number, bare[listed.end() :] if listed else bare, led=led))
    found = _without_mark(found, _BEFORE_ALL)
    # A letter that stands apart from its number belongs to it.
    apart = [re.match(r"[A-P] (?=\d{1,3}[\s.:)])", line.text) for line in found]
    if sum(map(bool, apart)) > 0.6 * sum(bool(line.text) for line in found):
        return [
            replace(line, text=line.text[0] + line.text[2:]) if one else line
            for line, one in zip(found, apart, strict=True)
        ]
    return _without_mark(found, _MARKED)


def _narrowed(line: str) -> str:
    """Every kind of blank as a space or tab, and of a long gap as much as says the same: patterns need not walk it."""
    plain_blanks = re.sub(r"[^\S\t]", " ", line)
    return re.sub(r"[ \t]{4,}", lambda gap: "\t" if "\t" in gap[0] else "   ", plain_blanks)


def _leads_to_number(text: str) -> bool:
    """Whether dots lead the eye to a number that ends a line."""
    number = _LAST_NUMBER.search(text)
    return number is not None and _LEADING.search(text[: number.start()].rstrip()[-6:]) is not None


def _without_mark(lines: list[Line], pattern: re.Pattern) -> list[Line]:
    """Lines without what stands before most of their numbers; where there are several such words, each begins a
    bank."""
    marks = [pattern.match(line.text) for line in lines]
    if sum(map(bool, marks)) <= 0.6 * sum(bool(line.text) for line in lines):
        return lines
    words = {mark["mark"].casefold() for mark in marks if mark}
    several = len(words) > 1 or pattern is _BEFORE_ALL
    found, last = [], ""
    for line, mark in zip(lines, marks, strict=True):
        if mark is None:
            found.append(line)
            continue
        begins = several and mark["mark"].casefold() != last
        last = mark["mark"].casefold()
        found.append(replace(line, text=line.text[mark.end() :], bank=mark["mark"] if begins else ""))
    return found


def is_head(text: str) -> bool:
    """Heads of columns: nothing but words such as no., name, patch."""
    words = set(re.findall(r"[^\W\d_]+", plain(text))) - FILLERS
    return bool(words) and words <= NAME | SOUND | PROGRAM | NUMBER | CATEGORY
