"""Finding a box, socket, port or cable by any of its names."""

from hypotaxis.core.rig.values import Rig


def search(rig: Rig, words: str) -> frozenset[str]:
    """Uids of the boxes, sockets and cables whose names hold all the words, in any order and case; empty for none.

    A box is known by its name and note; a socket by its box, its label, the owner's and the system's name; a cable by
    its label, its colour and both ends.
    """
    sought = words.casefold().split()
    if not sought:
        return frozenset()
    known: dict[str, str] = {}
    for box in rig.boxes:
        known[box.uid] = f"{box.name} {box.note}"
        for socket in box.sockets:
            known[socket.uid] = f"{box.name} {socket.label} {socket.port_name} {socket.system_name}"
    for cable in rig.cables:
        ends = f"{rig.socket_text(cable.source)} {rig.socket_text(cable.target)}"
        known[cable.uid] = f"{cable.label} {cable.colour} {ends}"
    return frozenset(uid for uid, name in known.items() if all(word in name.casefold() for word in sought))
