"""The rig file: a rig and its instruments as JSON, read and written without loss.

Described in docs/formats/rig.md. Reading reports every fault with its place in the file and imports nothing by
halves; writing what was written before gives the same text. Lines that begin with // are comments.
"""

import json
import re
import uuid
from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass
from datetime import date
from typing import Any

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.plain import as_lists, as_tuples
from hypotaxis.core.formats.text import json_of
from hypotaxis.core.midi.programs import BANK_FORMS, GAP_MS
from hypotaxis.core.midi.scales import SCALES
from hypotaxis.core.midi.shaping import CURVES, HARMONIES, Shaping
from hypotaxis.core.patches.numbers import FORMS
from hypotaxis.core.patches.values import Bank, KeptList, KeptPatch, NoteMap, NoteName
from hypotaxis.core.plan import GIVEN_FROM, Instrument, Loop, Meant, Part, Plan, Return, Voice
from hypotaxis.core.rig.plug import CABLE_KINDS
from hypotaxis.core.rig.values import (
    CLOCK,
    CONNECTORS,
    DIRECTIONS,
    IN_DUTIES,
    KINDS,
    LEVELS,
    LOCAL,
    OUT_DUTIES,
    SET_BY,
    TOGETHER,
    Box,
    Cable,
    Delays,
    Rig,
    Route,
    Setup,
    Socket,
)
from hypotaxis.core.studio import Port
from hypotaxis.core.sync.timecode import RATES
from hypotaxis.core.sync.values import BY, NOTHING, OBEYS, PACES, PLAYS, WRAPS, Following, Sending

FORMAT, VERSION = "hypotaxis-rig", 2
READABLE = (1, 2)
"""Version 1 knew fewer fields; everything it lacks has a default."""
MAX_BYTES = 32 * 1024 * 1024
MAX_FAULTS = 20
MAX_PICTURE = 200_000
"""Characters of a picture in base64."""

Check = Callable[[Any], str | None]
_REQUIRED = object()


@dataclass(frozen=True)
class _Field:
    """A field: what may stand there, what it is when it does not, and what the value calls it ("" = the same)."""

    check: Check
    default: Any = _REQUIRED
    inside: str = ""


def read_rig_file(text: str) -> Plan:
    """The plan in the text of a rig file; raises UnreadableFile naming every fault and its place."""
    if len(text) > MAX_BYTES:
        raise UnreadableFile(f"The rig file is larger than {MAX_BYTES // 2**20} MB: too large for a rig.")
    document = json_of(_without_comments(text), "The rig file")
    if not isinstance(document, dict) or document.get("format") != FORMAT:
        raise UnreadableFile(f'This is not a rig file: it has no "format": "{FORMAT}".')
    if document.get("version") not in READABLE or isinstance(document["version"], bool):
        raise UnreadableFile(
            f"The rig file is of version {document.get('version')!r}; this program reads versions 1 to {VERSION}."
        )
    reader = _Reader()
    plan = reader.plan(document)
    if reader.faults:
        more = len(reader.faults) - MAX_FAULTS
        told = "; ".join(reader.faults[:MAX_FAULTS]) + (f"; and {more} more" if more > 0 else "")
        raise UnreadableFile(f"The rig file cannot be used: {told}.")
    return plan


def write_rig_file(plan: Plan) -> str:
    """The plan as the text of a rig file."""
    rig = plan.rig
    document: dict[str, Any] = {
        "format": FORMAT,
        "version": VERSION,
        **_row(rig, _RIG),
        "boxes": [_box_row(box) for box in rig.boxes],
        "cables": [_row(cable, _CABLE) for cable in rig.cables],
        "instruments": [_instrument_row(instrument) for instrument in plan.instruments],
        "loops": [_row(one, _LOOP) for one in plan.loops],
        "meant": [_row(one, _MEANT) for one in plan.meant],
        "ticked": sorted(plan.ticked),
    }
    if plan.reported is not None:
        document["reported"] = [_row(port, _PORT) for port in plan.reported]
    if plan.patch_lists:
        document["patch_lists"] = [_list_row(one) for one in plan.patch_lists]
    if plan.pictures:
        document["pictures"] = [{"name": name, "png": png} for name, png in plan.pictures]
    return json.dumps(document, indent=1, ensure_ascii=False) + "\n"


def _without_comments(text: str) -> str:
    """Whole-line comments become empty lines, so that line numbers stay true."""
    return re.sub(r"^[ \t]*//.*$", "", text.removeprefix("\ufeff"), flags=re.MULTILINE)


def _row(value: Any, fields: dict[str, _Field]) -> dict[str, Any]:
    return {name: as_lists(getattr(value, field.inside or name)) for name, field in fields.items()}


def _socket_row(socket: Socket) -> dict[str, Any]:
    return _row(socket, _SOCKET) | ({"sending": asdict(socket.sending)} if socket.sending else {})


def _box_row(box: Box) -> dict[str, Any]:
    return _row(box, _BOX) | {
        "setup": {name: as_lists(value) for name, value in asdict(box.setup).items()},
        "delays": asdict(box.delays),
        "following": {name: as_lists(value) for name, value in asdict(box.following).items()},
        "sockets": [_socket_row(socket) for socket in box.sockets],
        "routes": [_row(route, _ROUTE) for route in box.routes],
    }


def _instrument_row(instrument: Instrument) -> dict[str, Any]:
    several = {name: [_row(one, fields) for one in getattr(instrument, name)] for name, (fields, _) in _SEVERAL.items()}
    return _row(instrument, _INSTRUMENT) | {"shaping": asdict(instrument.shaping)} | several


def _list_row(one: KeptList) -> dict[str, Any]:
    return _row(one, _LIST) | {
        "banks": [_row(bank, _BANK) for bank in one.banks],
        "patches": [_row(patch, _PATCH) for patch in one.patches],
        "note_maps": [{"name": m.name, "notes": [_row(note, _NOTE) for note in m.notes]} for m in one.note_maps],
    }


# --- what may stand in a field -------------------------------------------------------------------


def _text(value: Any) -> str | None:
    return None if isinstance(value, str) and len(value) <= 400 else "should be a text of up to 400 characters"


def _long_text(value: Any) -> str | None:
    return None if isinstance(value, str) and len(value) <= 4000 else "should be a text of up to 4000 characters"


def _uid(value: Any) -> str | None:
    try:
        fine = isinstance(value, str) and str(uuid.UUID(value)) == value
    except ValueError:
        fine = False
    return None if fine else "should be a UUID in small letters"


def _uid_or_empty(value: Any) -> str | None:
    return None if value == "" else _uid(value)


def _flag(value: Any) -> str | None:
    return None if isinstance(value, bool) else "should be true or false"


def _day(value: Any) -> str | None:
    try:
        fine = value == "" or (isinstance(value, str) and date.fromisoformat(value).isoformat() == value)
    except ValueError:
        fine = False
    return None if fine else "should be a day, such as 2026-11-25, or empty"


def _one_of(*allowed: str) -> Check:
    told = ", ".join(one or '""' for one in allowed)
    return lambda value: None if isinstance(value, str) and value in allowed else f"should be one of {told}"


def _number(low: float, high: float, *, whole: bool = False, empty: bool = False) -> Check:
    def check(value: Any) -> str | None:
        if value is None and empty:
            return None
        if isinstance(value, int if whole else (int, float)) and not isinstance(value, bool) and low <= value <= high:
            return None
        return f"should be a {'whole ' if whole else ''}number from {low} to {high}"

    return check


def _list(item: Check, what: str, *, most: int = 1000, unique: bool = True) -> Check:
    def check(value: Any) -> str | None:
        if not isinstance(value, list) or len(value) > most or any(item(one) for one in value):
            return f"should be a list of {what}"
        return "names something twice" if unique and len({json.dumps(one) for one in value}) < len(value) else None

    return check


def _channel_pair(value: Any) -> str | None:
    fine = isinstance(value, list) and len(value) == 2 and not any(map(_channel, value))
    return None if fine else "should be a pair of channels"


def _line(value: Any) -> str | None:
    fine = (
        isinstance(value, list) and len(value) == 2 and not _uid(value[0]) and not _number(0, 16, whole=True)(value[1])
    )
    return None if fine else "should be a port's UUID and a channel, 0 for all"


def _control(value: Any) -> str | None:
    fine = isinstance(value, list) and len(value) == 2 and not any(map(_number(0, 127, whole=True), value))
    return None if fine else "should be a pair of controller and value"


_channel = _number(1, 16, whole=True)
_channels = _list(_channel, "channels 1 to 16, each once", most=16)

_RIG = {
    "uid": _Field(_uid),
    "name": _Field(_text),
    "sample_rate": _Field(_number(8000, 192000, whole=True)),
    "buffer": _Field(_number(16, 8192, whole=True)),
    "echo": _Field(_flag, True),
    "leader": _Field(_uid_or_empty, ""),
    "driver": _Field(_text, ""),
    "stamps": _Field(_text, ""),
    "together": _Field(_one_of(*TOGETHER), TOGETHER[0]),
}
_BOX = {
    "uid": _Field(_uid),
    "name": _Field(_text),
    "shape": _Field(_text),
    "note": _Field(_text, ""),
    "colour": _Field(_text, ""),
    "order": _Field(_number(0, 100000, whole=True), 0),
    "by_hand": _Field(_flag, False),
    "icon": _Field(_text, ""),
    "picture": _Field(_text, ""),
    "identity": _Field(_text, ""),
}
_SETUP = {
    "receives": _Field(_channels, ()),
    "omni": _Field(_flag, False),
    "transmits": _Field(_channels, ()),
    "local": _Field(_one_of(*LOCAL), ""),
    "clock": _Field(_one_of(*CLOCK), ""),
    "takes_clock": _Field(_flag, False),
    "sends_clock": _Field(_flag, False),
    "takes_time_code": _Field(_flag, False),
    "sends_time_code": _Field(_flag, False),
    "uses": _Field(_list(_text, "texts, each once"), ()),
    "set_by": _Field(_one_of(*SET_BY), "menu"),
    "parts": _Field(_number(0, 256, whole=True, empty=True), None),
    "lanes": _Field(_number(1, 256, whole=True, empty=True), None),
    "polyphony": _Field(_number(1, 256, whole=True, empty=True), None),
    "routing": _Field(_number(0, 127, whole=True, empty=True), None),
    "routing_by": _Field(_text, ""),
    "routing_channel": _Field(_number(1, 16, whole=True), 1),
    "dump_request": _Field(_long_text, ""),
    "dump_pause_ms": _Field(_number(0, 10_000), 20.0),
    "dump_bytes_s": _Field(_number(0, 1_000_000, whole=True), 0),
}
_DELAYS = {
    "reaction_ms": _Field(_number(0, 1000, empty=True), None),
    "through_ms": _Field(_number(0, 1000, empty=True), None),
    "out_ms": _Field(_number(0, 1000, empty=True), None),
    "converter_samples": _Field(_number(0, 10_000, empty=True), None),
    "driver_samples": _Field(_number(0, 100_000, empty=True), None),
}
_SOCKET = {
    "uid": _Field(_uid),
    "label": _Field(_text),
    "direction": _Field(_one_of(*DIRECTIONS)),
    "kind": _Field(_one_of(*KINDS)),
    "connector": _Field(_one_of(*CONNECTORS), ""),
    "thru_of": _Field(_text, ""),
    "separate": _Field(_text, ""),
    "stereo": _Field(_text, ""),
    "both_sides": _Field(_flag, False),
    "level": _Field(_one_of(*LEVELS), ""),
    "max_dbu": _Field(_number(-60, 60, empty=True), None),
    "carried_by": _Field(_text, ""),
    "port_name": _Field(_text, ""),
    "system_name": _Field(_text, ""),
    "duty": _Field(_one_of("", *dict.fromkeys(OUT_DUTIES + IN_DUTIES)), ""),
    "clock": _Field(_flag, False),
}
_ROUTE = {
    "uid": _Field(_uid),
    "source": _Field(_uid),
    "target": _Field(_uid),
    "channels": _Field(_channels, ()),
    "remap": _Field(_list(_channel_pair, "pairs of channels", most=16), ()),
    "clock": _Field(_flag, True),
    "gain_db": _Field(_number(-80, 80), 0.0),
}
_CABLE = {
    "uid": _Field(_uid),
    "source": _Field(_uid),
    "target": _Field(_uid),
    "kind": _Field(_one_of(*CABLE_KINDS), ""),
    "adapter": _Field(_text, ""),
    "length_m": _Field(_number(0, 1000, empty=True), None),
    "colour": _Field(_text, ""),
    "label": _Field(_text, ""),
}
_INSTRUMENT = {
    "uid": _Field(_uid),
    "name": _Field(_text),
    "box": _Field(_uid),
    "send": _Field(_uid_or_empty, ""),
    "channel": _Field(_channel),
    "returns": _Field(_list(_uid, "up to two UUIDs", most=2, unique=False), ()),
    "home_trim_db": _Field(_number(-60, 24), 0.0),
    "lateness_ms": _Field(_number(-1000, 1000, empty=True), None, "given_ms"),
    "lateness_from": _Field(_one_of(*GIVEN_FROM), "", "given_from"),
    "colour": _Field(_text, ""),
    "patch_list": _Field(_uid_or_empty, ""),
    "patch": _Field(_uid_or_empty, ""),
    "note_map": _Field(_text, ""),
    "bank_form": _Field(_one_of(*BANK_FORMS), "both"),
    "gap_ms": _Field(_number(0, 2000), GAP_MS),
    "middle_c": _Field(_number(3, 4, whole=True), 4),
    "notes": _Field(_long_text, ""),
    "group": _Field(_text, ""),
    "inverted": _Field(_flag, False),
    "standing": _Field(_list(_line, "lines: a port's UUID and a channel, 0 for all", most=32), ()),
}
_note = _number(0, 127, whole=True)
_FOLLOWING = {
    "plays": _Field(_one_of("", *PLAYS), ""),
    "length_ticks": _Field(_number(1, 1_000_000, whole=True, empty=True), None),
    "pace": _Field(_one_of(*PACES), PACES[0]),
    "by": _Field(_one_of("", *BY), ""),
    "obeys": _Field(_list(_one_of(*OBEYS), f"of {', '.join(OBEYS)}, each once", most=len(OBEYS)), OBEYS),
    "restarts": _Field(_flag, True),
    "time_code": _Field(_one_of("", *RATES), ""),
}
_SENDING = {
    "always": _Field(_flag, False),
    "keys": _Field(_flag, True),
    "position": _Field(_flag, True),
    "wrap": _Field(_one_of(*WRAPS), NOTHING),
    "time_code": _Field(_one_of("", *RATES), ""),
    "offset": _Field(_number(0, 24 * 3600 * 30, whole=True), 0),
    "shift_ms": _Field(_number(-200, 200), 0.0),
    "compensate": _Field(_flag, False),
}
_byte = _number(0, 127, whole=True, empty=True)
_PART = {
    "uid": _Field(_uid),
    "name": _Field(_text),
    "channel": _Field(_channel),
    "send": _Field(_uid_or_empty, ""),
    "patch": _Field(_uid_or_empty, ""),
    "level": _Field(_byte, None),
    "pan": _Field(_byte, None),
    "low": _Field(_note, 0),
    "high": _Field(_note, 127),
    "transpose": _Field(_number(-60, 60, whole=True), 0),
    "curve": _Field(_one_of(*CURVES), "as played"),
}
_RETURN = {
    "uid": _Field(_uid),
    "name": _Field(_text),
    "inputs": _Field(_list(_uid, "up to two UUIDs", most=2, unique=False), ()),
    "inverted": _Field(_flag, False),
}
_VOICE = {"note": _Field(_note), "name": _Field(_text), "home": _Field(_uid_or_empty, "")}
_SEVERAL = {"parts": (_PART, Part), "further": (_RETURN, Return), "voices": (_VOICE, Voice)}
"""Lists inside an instrument."""
_SHAPING = {
    "low": _Field(_note, 0),
    "high": _Field(_note, 127),
    "transpose": _Field(_number(-60, 60, whole=True), 0),
    "curve": _Field(_one_of(*CURVES), "as played"),
    "harmony": _Field(_one_of(*HARMONIES), ""),
    "scale": _Field(_one_of(*SCALES), "major"),
    "root": _Field(_number(0, 11, whole=True), 0),
}
_LOOP = {
    "uid": _Field(_uid),
    "name": _Field(_text),
    "box": _Field(_uid_or_empty, ""),
    "sends": _Field(_list(_uid, "up to two UUIDs", most=2, unique=False), ()),
    "returns": _Field(_list(_uid, "up to two UUIDs", most=2, unique=False), ()),
    "home_trim_db": _Field(_number(-60, 24), 0.0),
    "inverted": _Field(_flag, False),
    "lateness_ms": _Field(_number(-1000, 1000, empty=True), None, "given_ms"),
    "lateness_from": _Field(_one_of(*GIVEN_FROM), "", "given_from"),
    "colour": _Field(_text, ""),
    "notes": _Field(_long_text, ""),
}
_MEANT = {"rule": _Field(_text), "about": _Field(_text), "cause": _Field(_long_text), "reason": _Field(_text, "")}
_PORT = {"system_name": _Field(_text), "direction": _Field(_one_of("in", "out")), "taken": _Field(_flag, False)}


_LIST = {"uid": _Field(_uid), "name": _Field(_text), "form": _Field(_one_of("", *FORMS), "")}
_BANK = {"name": _Field(_text), "msb": _Field(_byte, None), "lsb": _Field(_byte, None)}
_PATCH = {
    "uid": _Field(_uid),
    "number": _Field(_text, ""),
    "bank": _Field(_number(0, 10_000, whole=True), 0),
    "msb": _Field(_byte, None),
    "lsb": _Field(_byte, None),
    "program": _Field(_byte),
    "controls": _Field(_list(_control, "pairs of controller and value, 0 to 127", most=64, unique=False), ()),
    "name": _Field(_text),
    "category": _Field(_text, ""),
    "favourite": _Field(_flag, False),
    "checked": _Field(_day, ""),
}
_NOTE = {"note": _Field(_note), "name": _Field(_text)}


def _png(value: Any) -> str | None:
    fine = isinstance(value, str) and len(value) <= MAX_PICTURE and re.fullmatch(r"[A-Za-z0-9+/]*={0,2}", value)
    return None if fine else f"should be a PNG in base64 of up to {MAX_PICTURE} characters"


_PICTURE = {"name": _Field(_text), "png": _Field(_png)}


class _Reader:
    """Collects faults while it reads, each with its path."""

    def __init__(self) -> None:
        self.faults: list[str] = []
        self.seen: set[str] = set()

    def plan(self, document: dict) -> Plan:
        lists = ("boxes", "cables", "instruments", "loops", "meant", "ticked", "reported", "patch_lists", "pictures")
        head = self._values("", document, _RIG, lists=(*lists, "format", "version"))
        boxes = tuple(box for path, row in self._rows(document, "boxes") if (box := self._box(path, row)))
        cables = self._all(document, "cables", _CABLE, Cable)
        rows = self._rows(document, "instruments")
        instruments = tuple(one for path, row in rows if (one := self._instrument(path, row)))
        self._ends(boxes, cables)
        ticked = document.get("ticked", [])
        if _list(_text, "texts", most=100_000)(ticked):
            self.faults.append("ticked should be a list of texts, each once")
            ticked = []
        reported = self._all(document, "reported", _PORT, Port) if "reported" in document else None
        pictures = self._all(document, "pictures", _PICTURE, lambda name, png: (name, png))
        rig = Rig(**(head or {"uid": "", "name": ""}), boxes=boxes, cables=cables)
        return Plan(
            rig=rig,
            instruments=instruments,
            loops=self._all(document, "loops", _LOOP, Loop),
            meant=self._all(document, "meant", _MEANT, Meant),
            ticked=frozenset(ticked),
            reported=reported,
            pictures=pictures,
            patch_lists=tuple(
                one for path, row in self._rows(document, "patch_lists") if (one := self._patch_list(path, row))
            ),
        )

    def _patch_list(self, path: str, row: dict) -> KeptList | None:
        banks = self._all(row, "banks", _BANK, Bank, f"{path}.")
        patches = self._all(row, "patches", _PATCH, KeptPatch, f"{path}.")
        maps = []
        for at, item in self._rows(row, "note_maps", f"{path}."):
            notes = self._all(item, "notes", _NOTE, NoteName, f"{at}.")
            named = self._values(at, item, {"name": _Field(_text)}, lists=("notes",))
            maps.append(NoteMap(name=named["name"] if named else "", notes=notes))
        values = self._values(path, row, _LIST, lists=("banks", "patches", "note_maps"))
        for number, patch in enumerate(patches):
            if patch.bank >= max(1, len(banks)):
                self.faults.append(f"{path}.patches[{number}].bank should be one of its {len(banks)} banks, from 0")
        return None if values is None else KeptList(**values, banks=banks, patches=patches, note_maps=tuple(maps))

    def _all(self, row: dict, name: str, fields: dict[str, _Field], make: Callable, prefix: str = "") -> tuple:
        """Every row of a list that can be read, made into values."""
        rows = ((path, self._values(path, item, fields)) for path, item in self._rows(row, name, prefix))
        return tuple(make(**values) for _, values in rows if values is not None)

    def _nested(self, path: str, row: dict, name: str, fields: dict[str, _Field], make: Callable):
        """An object inside a row as a value, None where it cannot be read."""
        inner = row.get(name, {})
        if not isinstance(inner, dict):
            self.faults.append(f"{path}.{name} should be an object")
            return None
        values = self._values(f"{path}.{name}", inner, fields)
        return None if values is None else make(**values)

    def _instrument(self, path: str, row: dict) -> Instrument | None:
        shaping = self._nested(path, row, "shaping", _SHAPING, Shaping)
        several = {name: self._all(row, name, fields, make, f"{path}.") for name, (fields, make) in _SEVERAL.items()}
        values = self._values(path, row, _INSTRUMENT, lists=("shaping", *_SEVERAL))
        return None if values is None or shaping is None else Instrument(**values, shaping=shaping, **several)

    def _box(self, path: str, row: dict) -> Box | None:
        rows = self._rows(row, "sockets", f"{path}.")
        sockets = tuple(one for at, item in rows if (one := self._socket(at, item)))
        routes = self._all(row, "routes", _ROUTE, Route, f"{path}.")
        set_up = self._nested(path, row, "setup", _SETUP, Setup)
        delays = self._nested(path, row, "delays", _DELAYS, Delays)
        following = self._nested(path, row, "following", _FOLLOWING, Following)
        values = self._values(path, row, _BOX, lists=("sockets", "routes", "setup", "delays", "following"))
        mine = {socket.uid for socket in sockets}
        for number, route in enumerate(routes):
            if not {route.source, route.target} <= mine:
                self.faults.append(f"{path}.routes[{number}] should join two sockets of this box")
        if values is None or set_up is None or delays is None or following is None:
            return None
        return Box(**values, setup=set_up, delays=delays, following=following, sockets=sockets, routes=routes)

    def _socket(self, path: str, row: dict) -> Socket | None:
        sending = self._nested(path, row, "sending", _SENDING, Sending) if row.get("sending") is not None else None
        values = self._values(path, row, _SOCKET, lists=("sending",))
        return None if values is None else Socket(**values, sending=sending)

    def _ends(self, boxes: tuple[Box, ...], cables: tuple[Cable, ...]) -> None:
        known = {socket.uid for box in boxes for socket in box.sockets}
        taken: dict[str, int] = {}
        for number, cable in enumerate(cables):
            for end in ("source", "target"):
                uid = getattr(cable, end)
                if uid not in known:
                    self.faults.append(f"cables[{number}].{end} names a socket that is not in the file")
                elif taken.setdefault(uid, number) != number:
                    self.faults.append(f"cables[{number}].{end} is taken by cables[{taken[uid]}] already")

    def _rows(self, row: dict, name: str, prefix: str = "") -> Iterator[tuple[str, dict]]:
        value = row.get(name, [])
        path = f"{prefix}{name}"
        if not isinstance(value, list):
            self.faults.append(f"{path} should be a list")
            return
        for number, item in enumerate(value):
            if isinstance(item, dict):
                yield f"{path}[{number}]", item
            else:
                self.faults.append(f"{path}[{number}] should be an object")

    def _values(self, path: str, row: dict, fields: dict[str, _Field], lists: tuple[str, ...] = ()) -> dict | None:
        before = len(self.faults)
        at = f"{path}." if path else ""
        for name in row:
            if name not in fields and name not in lists:
                self.faults.append(f"{at}{name} is not known in version {VERSION}")
        values = {}
        for name, field in fields.items():
            if name not in row:
                if field.default is _REQUIRED:
                    self.faults.append(f"{at}{name} is missing")
                values[field.inside or name] = field.default
                continue
            fault = field.check(row[name])
            if fault:
                self.faults.append(f"{at}{name} {fault}")
            values[field.inside or name] = as_tuples(row[name])
        if len(self.faults) > before:
            return None
        if "uid" in fields:
            if values["uid"] in self.seen:
                self.faults.append(f"{at}uid is used twice")
                return None
            self.seen.add(values["uid"])
        return values
