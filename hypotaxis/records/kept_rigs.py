"""Rigs as they stood when something was recorded: each kept once, however many passes were made on it."""

import json
import re
import zlib
from collections.abc import Mapping
from functools import lru_cache
from hashlib import sha256

from hypotaxis.core.formats.rigfile import read_rig_file, write_rig_file
from hypotaxis.core.plan import Plan
from hypotaxis.records.models import KeptRig, Rig
from hypotaxis.records.plan import load_kept

_UID = re.compile(r"[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}")


def keep_rig(rig: Rig) -> KeptRig:
    """The rig as it stands now."""
    return keep_text(write_rig_file(load_kept(rig)))


def keep_text(text: str) -> KeptRig:
    """A rig as a rig file."""
    digest = sha256(text.encode()).hexdigest()
    return KeptRig.objects.get_or_create(digest=digest, defaults={"packed": zlib.compress(text.encode())})[0]


def text_of(kept: KeptRig) -> str:
    """It as a rig file."""
    return zlib.decompress(kept.packed).decode()


def plan_of(digest: str) -> Plan:
    """The plan that is kept under this digest. Raises KeptRig.DoesNotExist, UnreadableFile."""
    return _read(digest)


@lru_cache(maxsize=32)
def _read(digest: str) -> Plan:
    return read_rig_file(text_of(KeptRig.objects.get(digest=digest)))


def renamed(rig: Mapping, new: Mapping[str, str]) -> str:
    """A rig file (as plain data) in which things are called by other uids, as a text."""
    text = _UID.sub(lambda found: new.get(found[0], found[0]), json.dumps(rig, ensure_ascii=False))
    return write_rig_file(read_rig_file(text))


def uids_in(rig: Mapping) -> set[str]:
    """Every uid that a rig file names."""
    return set(_UID.findall(json.dumps(rig)))
