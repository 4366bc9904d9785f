"""Which column of a list is which, and which word begins a bank? The words that manuals use, by language.

English, German, French, Spanish, Italian and Japanese, collected by us (common practice of the trade, no published
source). A head is taken apart into words; what they are together says the column's kind.
"""

import re
import unicodedata

_NAME = {
    "en": "name names title",
    "de": "name namen titel bezeichnung klangname programmname",
    "fr": "nom noms titre",
    "es": "nombre nombres título",
    "it": "nome nomi titolo",
    "ja": "名前 名称 名 音色名 プログラム名 パッチ名 ボイス名 トーン名 サウンド名",
}
_SOUND = {
    "en": "patch patches sound sounds voice voices tone tones preset presets instrument instruments",
    "de": "klang klänge klangfarbe stimme instrument instrumente",
    "fr": "son sons sonorité sonorités timbre timbres voix",
    "es": "sonido sonidos timbre timbres tono tonos voz instrumento",
    "it": "suono suoni timbro timbri voce voci strumento",
    "ja": "音色 パッチ ボイス トーン サウンド プリセット 楽器",
}
_PROGRAM = {
    "en": "pc pgm prg prog program programs programme",
    "de": "programm programme programmwechsel programmnummer programmnr",
    "fr": "programme programmes",
    "es": "programa programas",
    "it": "programma programmi",
    "ja": "プログラム プログラムチェンジ プログラムナンバー プログラム番号 プログラムno",
}
_NUMBER = {
    "en": "no nr num number numbers display",
    "de": "nummer nummern anzeige",
    "fr": "numéro numéros n° nº affichage",
    "es": "número números núm nº",
    "it": "numero numeri n",
    "ja": "番号 ナンバー 表示",
}
_BANK = {
    "en": "bank banks group set",
    "de": "bank bänke gruppe bankname bankwahl banknummer",
    "fr": "banque banques groupe",
    "es": "banco bancos grupo",
    "it": "banco banchi banca banche gruppo",
    "ja": "バンク バンク名 バンクセレクト グループ",
}
_CATEGORY = {
    "en": "category categories cat type types tag tags family class",
    "de": "kategorie kategorien art typ",
    "fr": "catégorie catégories famille",
    "es": "categoría categorías tipo familia",
    "it": "categoria categorie tipo famiglia",
    "ja": "カテゴリー カテゴリ 種類 タイプ ジャンル",
}
_HIGH, _LOW = {"msb", "cc0", "cc00", "hi", "high"}, {"lsb", "cc32", "lo", "low"}
FILLERS = frozenset(
    [
        "change",
        "select",
        "message",
        "hex",
        "dec",
        "decimal",
        "midi",
        "the",
        "of",
        "de",
        "du",
        "del",
        "della",
        "di",
        "cambio",
        "cambios",
        "changement",
        "wechsel",
    ]
)
_NOT_FOLDED = str.maketrans({"°": "o", "º": "o"})


def plain(text: str) -> str:
    """A word as it is compared: full-width signs made plain, case and accents left out.

    >>> [plain(word) for word in ("Numéro", "ＭＳＢ", "N°", "Klänge", "プログラム")]
    ['numero', 'msb', 'no', 'klange', 'プログラム']
    """
    text = unicodedata.normalize("NFKC", text.translate(_NOT_FOLDED)).casefold()
    parts = unicodedata.normalize("NFD", text)
    # Marks of Latin letters only: a Japanese voiced sound is another letter.
    bare = re.sub(r"(?<=[a-z])[\u0300-\u036f]+", "", parts)
    return unicodedata.normalize("NFC", bare)


def _all(table: dict[str, str]) -> frozenset[str]:
    return frozenset(plain(word) for words in table.values() for word in words.split())


NAME, SOUND, PROGRAM, NUMBER, BANK, CATEGORY = map(_all, (_NAME, _SOUND, _PROGRAM, _NUMBER, _BANK, _CATEGORY))


def kind_of(head: str) -> str | None:
    """The kind of column that a head names ("name", "number", "program", "msb", "lsb", "bank", "category"), or None.

    >>> [kind_of(head) for head in ("PC (1-128)", "Bank-MSB", "Nº de programa", "音色名", "Klang Nr.", "volume")]
    ['program', 'msb', 'program', 'name', 'number', None]
    """
    text = plain(head)
    if text.strip() == "#":
        return "number"
    controller = re.search(r"(?:cc|ctrl|controller)[ _#-]*(0+|32)(?!\d)", text)
    words = set(re.findall(r"[^\W\d_]+", text))
    marks = {word for mark in ("msb", "lsb") for word in words if mark in word}
    high = any("msb" in word for word in marks) or bool(controller and int(controller[1]) == 0)
    low = any("lsb" in word for word in marks) or bool(controller and int(controller[1]) == 32)
    if not (high or low) and words & BANK:
        high, low = bool(words & _HIGH), bool(words & _LOW)
    if high != low and len(words) <= 4:
        return "msb" if high else "lsb"
    rest = words - FILLERS
    if high or not rest or rest - (NAME | SOUND | PROGRAM | NUMBER | BANK | CATEGORY):
        return None
    if rest & CATEGORY and rest <= CATEGORY | NAME:
        return "category"
    if rest & PROGRAM and rest <= PROGRAM | NUMBER:
        return "program"
    if rest & NAME:
        return "bank" if rest & BANK and not rest & (SOUND | PROGRAM) else "name"
    if rest & NUMBER or "#" in text:
        return "number" if not rest & (PROGRAM | BANK | CATEGORY) else None
    if rest <= SOUND:
        return "name"
    return "bank" if rest <= BANK else None


def columns_of(head: list[str]) -> dict[str, int]:
    """Where each kind of column stands; empty when a row is no head."""
    found: dict[str, int] = {}
    for place, cell in enumerate(head):
        kind = kind_of(cell)
        if kind:
            found.setdefault(kind, place)
    return found if "name" in found else {}
