"""What are the files called that are handed over? By a pattern of the person's, safe on every file system, each once.

A pattern is text with words in braces, for example "{track} {take}". Letters of every script are kept; what a file
system does not allow becomes a dash; names are composed (Unicode NFC) and at most LONGEST bytes of UTF-8 long, since
several file systems count bytes.
"""

import re
import unicodedata
from collections.abc import Iterable, Mapping, Sequence

from pathvalidate import sanitize_filename

from hypotaxis.core.errors import BadPattern

WORDS = {
    "session": "the session's name",
    "rig": "the rig's name",
    "track": "the track's name",
    "group": "the group it is in",
    "instrument": "the instrument's name",
    "take": "take and its number, or what stands",
    "bars": "the bars it holds",
    "date": "the day it was recorded",
    "number": "its place among the files, 01, 02 …",
}
"""What may stand in braces."""
USUAL = "{session} {track} {take}"
LONGEST = 180
_BRACED = re.compile(r"\{([^{}]*)\}")


def check_pattern(pattern: str) -> str:
    """The pattern without blanks around it; raises BadPattern with the reason."""
    pattern = pattern.strip()
    for word in _BRACED.findall(pattern):
        if word not in WORDS:
            known = ", ".join(f"{{{one}}}" for one in WORDS)
            raise BadPattern(f"“{{{word}}}” stands for nothing. In braces may stand: {known}.")
    if "{" in _BRACED.sub("", pattern) or "}" in _BRACED.sub("", pattern):
        raise BadPattern("A brace is open, or closed twice. Write a word in braces like {track}.")
    if not pattern:
        raise BadPattern("The pattern is empty. Write for example {track} {take}.")
    return pattern


def file_names(pattern: str, files: Sequence[Mapping[str, str]], ending: str) -> list[str]:
    """A name for each file, described by the words it has; names that would be one, also where only capitals differ,
    are told apart by a number. Raises BadPattern.

    >>> file_names("{track}", [{"track": "Bäss/1"}, {"track": "bäss-1"}, {"track": "CON"}, {}], ".wav")
    ['Bäss-1.wav', 'bäss-1 2.wav', 'CON_.wav', 'untitled.wav']
    """
    pattern, names = check_pattern(pattern), []
    digits = max(2, len(str(len(files))))
    for number, one in enumerate(files, start=1):
        words = {"number": f"{number:0{digits}}"} | dict(one)
        names.append(safe_name(_BRACED.sub(lambda found, words=words: words.get(found[1], ""), pattern)))
    return apart(names, ending)


def safe_name(text: str) -> str:
    """One name without an ending; "untitled" where nothing is left of it."""
    plain = " ".join("".join(" " if one.isspace() else one for one in unicodedata.normalize("NFC", text)).split())
    seen = "".join(one for one in plain if unicodedata.category(one) not in ("Cc", "Cf", "Cs", "Co", "Cn"))
    name = sanitize_filename(_cut(seen), replacement_text="-", platform="universal").strip(" .-")
    return sanitize_filename(name, platform="universal") or "untitled"


def apart(names: Iterable[str], ending: str) -> list[str]:
    """The names with their ending, each once."""
    given: set[str] = set()
    found = []
    for name in names:
        number, one = 1, name
        while _alike(one) in given:
            number += 1
            one = f"{name} {number}"
        given.add(_alike(one))
        found.append(one + ending)
    return found


def _alike(name: str) -> str:
    """What a file system that does not tell capitals apart makes of it."""
    return unicodedata.normalize("NFKC", name).casefold()


def _cut(text: str) -> str:
    return text.encode()[:LONGEST].decode(errors="ignore")
