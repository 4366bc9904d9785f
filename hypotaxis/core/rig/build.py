"""A new box out of a shape."""

import uuid
from dataclasses import asdict

from hypotaxis.core.rig.shapes import SHAPES, is_interface
from hypotaxis.core.rig.values import Box, Socket

HOST_NAME = "host"


def new_uid() -> str:
    """A fresh uid."""
    return str(uuid.uuid4())


def box_from_shape(shape: str, name: str, *, colour: str = "", order: int = 0, uid: str = "") -> Box:
    """A box with the sockets of its shape, ready to be renamed.

    An interface's sockets get the system names the stand-in reports them under, and send sockets the duty
    "sends to boxes". Raises KeyError for a shape that is not in the table.
    """
    uid = uid or new_uid()
    sockets = []
    for item in SHAPES[shape].sockets:
        port = is_interface(shape) and item.kind != "usb"
        sockets.append(
            Socket(
                # From the box's uid, so that the same box always has the same sockets.
                uid=str(uuid.uuid5(uuid.UUID(uid), item.label)),
                **asdict(item),
                system_name=f"{name} USB Audio 2.0: {item.label} [{uid[:4]}]" if port else "",
                duty="sends to boxes" if port and item.kind == "midi" and item.direction == "out" else "",
            )
        )
    return Box(
        uid=uid,
        name=name,
        shape=shape,
        note=SHAPES[shape].note,
        colour=colour,
        order=order,
        sockets=tuple(sockets),
    )
