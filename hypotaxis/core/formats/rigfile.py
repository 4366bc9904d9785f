"""The rig file: a rig and its instruments as JSON, read and written without loss.

Described in docs/formats/rig.md. Reading reports every fault with its place in the file and imports nothing by
halves; writing what was read gives the same text.
"""

import json
import uuid
from collections.abc import Callable
from typing import Any

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.values import DIRECTIONS, KINDS, Box, Cable, Rig, Socket

FORMAT, VERSION = "hypotaxis-rig", 1
MAX_BYTES = 8 * 1024 * 1024
MAX_FAULTS = 20

Check = Callable[[Any], str | None]


def read_rig_file(text: str) -> Plan:
    """The plan in the text of a rig file; raises UnreadableFile naming every fault and its place."""
    if len(text) > MAX_BYTES:
        raise UnreadableFile(f"The rig file is larger than {MAX_BYTES // 2**20} MB; that is no rig.")
    try:
        document = json.loads(text)
    except RecursionError as error:
        raise UnreadableFile("The rig file is nested too deeply.") from error
    except ValueError as error:
        raise UnreadableFile(f"The rig file is not JSON: {error}.") from error
    if not isinstance(document, dict) or document.get("format") != FORMAT:
        raise UnreadableFile(f'This is not a rig file: it has no "format": "{FORMAT}".')
    if document.get("version") != VERSION:
        raise UnreadableFile(
            f"The rig file is of version {document.get('version')!r}; this program reads version {VERSION}."
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
    document = {
        "format": FORMAT,
        "version": VERSION,
        "uid": rig.uid,
        "name": rig.name,
        "sample_rate": rig.sample_rate,
        "buffer": rig.buffer,
        "boxes": [_row(box, _BOX) | {"sockets": [_row(s, _SOCKET) for s in box.sockets]} for box in rig.boxes],
        "cables": [_row(cable, _CABLE) for cable in rig.cables],
        "instruments": [
            _row(instrument, _INSTRUMENT) | {"returns": list(instrument.returns)} for instrument in plan.instruments
        ],
    }
    return json.dumps(document, indent=1, ensure_ascii=False) + "\n"


def _text(value: Any) -> str | None:
    return None if isinstance(value, str) and len(value) <= 400 else "should be a text of up to 400 characters"


def _uid(value: Any) -> str | None:
    try:
        return (
            None if isinstance(value, str) and str(uuid.UUID(value)) == value else "should be a UUID in small letters"
        )
    except ValueError:
        return "should be a UUID in small letters"


def _uid_or_empty(value: Any) -> str | None:
    return None if value == "" else _uid(value)


def _one_of(*allowed: str) -> Check:
    return lambda value: None if value in allowed else f"should be one of {', '.join(allowed)}"


def _number(low: float, high: float, kinds: tuple[type, ...] = (int, float), empty: bool = False) -> Check:
    def check(value: Any) -> str | None:
        if value is None and empty:
            return None
        if isinstance(value, kinds) and not isinstance(value, bool) and low <= value <= high:
            return None
        return f"should be a number from {low} to {high}"

    return check


_whole = (int,)
_RIG = {
    "uid": _uid,
    "name": _text,
    "sample_rate": _number(8000, 192000, _whole),
    "buffer": _number(16, 8192, _whole),
}
_BOX = {"uid": _uid, "name": _text, "shape": _text, "note": _text, "colour": _text, "order": _number(0, 100000, _whole)}
_SOCKET = {
    "uid": _uid,
    "label": _text,
    "direction": _one_of(*DIRECTIONS),
    "kind": _one_of(*KINDS),
    "thru_of": _text,
    "separate": _text,
    "stereo": _text,
    "port_name": _text,
    "system_name": _text,
    "duty": _text,
}
_CABLE = {
    "uid": _uid,
    "source": _uid,
    "target": _uid,
    "length_m": _number(0, 1000, empty=True),
    "colour": _text,
    "label": _text,
}
_INSTRUMENT = {
    "uid": _uid,
    "name": _text,
    "box": _uid,
    "send": _uid_or_empty,
    "channel": _number(1, 16, _whole),
    "home_trim_db": _number(-60, 24),
    "lateness_ms": _number(-1000, 1000, empty=True),
    "colour": _text,
}


def _row(value: Any, fields: dict[str, Check]) -> dict[str, Any]:
    return {name: getattr(value, name) for name in fields}


class _Reader:
    """Collects faults while it reads, each with its path."""

    def __init__(self) -> None:
        self.faults: list[str] = []
        self.seen: set[str] = set()

    def plan(self, document: dict) -> Plan:
        boxes = []
        for path, row in self._rows(document, "boxes", "boxes"):
            sockets = [
                Socket(**values)
                for at, item in self._rows(row, "sockets", f"{path}.sockets")
                if (values := self._values(at, item, _SOCKET)) is not None
            ]
            values = self._values(path, row, _BOX, lists=("sockets",))
            if values is not None:
                boxes.append(Box(**values, sockets=tuple(sockets)))
        cables = [
            Cable(**values)
            for path, row in self._rows(document, "cables", "cables")
            if (values := self._values(path, row, _CABLE)) is not None
        ]
        instruments = []
        for path, row in self._rows(document, "instruments", "instruments"):
            returns = row.get("returns", [])
            if not isinstance(returns, list) or len(returns) > 2 or any(_uid(uid) for uid in returns):
                self.faults.append(f"{path}.returns should be a list of up to two UUIDs")
                continue
            values = self._values(path, row, _INSTRUMENT, lists=("returns",))
            if values is not None:
                instruments.append(Instrument(**values, returns=tuple(returns)))
        head = {name: document.get(name) for name in _RIG}
        values = self._values("rig", head, _RIG)
        known = {socket.uid for box in boxes for socket in box.sockets}
        for number, cable in enumerate(cables):
            for end in ("source", "target"):
                if getattr(cable, end) not in known:
                    self.faults.append(f"cables[{number}].{end} names a socket that is not in the file")
        rig = Rig(**(values or {"uid": "", "name": ""}), boxes=tuple(boxes), cables=tuple(cables))
        return Plan(rig=rig, instruments=tuple(instruments))

    def _rows(self, row: dict, name: str, path: str):
        value = row.get(name, [])
        if not isinstance(value, list):
            self.faults.append(f"{path} should be a list")
            return
        for number, item in enumerate(value):
            if isinstance(item, dict):
                yield f"{path}[{number}]", item
            else:
                self.faults.append(f"{path}[{number}] should be an object")

    def _values(self, path: str, row: dict, fields: dict[str, Check], lists: tuple[str, ...] = ()) -> dict | None:
        fine = True
        for name in row:
            if name not in fields and name not in lists:
                self.faults.append(f"{path}.{name} is not known in version {VERSION}")
                fine = False
        for name, check in fields.items():
            fault = check(row[name]) if name in row else "is missing"
            if fault:
                self.faults.append(f"{path}.{name} {fault}")
                fine = False
        if fine and row["uid"] in self.seen:
            self.faults.append(f"{path}.uid is used twice")
            fine = False
        if fine:
            self.seen.add(row["uid"])
        return {name: row[name] for name in fields} if fine else None
