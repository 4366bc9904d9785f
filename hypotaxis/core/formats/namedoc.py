"""MIDI name documents: the published XML format for the names of patches and notes (MIDI Manufacturers Association).

Read: master devices, channel name sets, patch banks with their MIDI commands, patch name lists (in place or by name),
note name lists. A DOCTYPE is accepted, since these documents carry one; entities and references to the outside are
refused. Written: one master device with one name set.
"""

from dataclasses import dataclass, field
from xml.parsers import expat
from xml.sax.saxutils import escape, quoteattr

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.text import MAX_TEXT_BYTES
from hypotaxis.core.midi.programs import BANK_LSB, BANK_MSB
from hypotaxis.core.patches.values import Bank, Doubt, NoteMap, NoteName, Patch, PatchList, ReadList

DOCTYPE = (
    '<!DOCTYPE MIDINameDocument PUBLIC "-//MIDI Manufacturers Association//DTD MIDINameDocument 1.0//EN" '
    '"http://www.midi.org/dtds/MIDINameDocument10.dtd">'
)
DEEPEST, MOST_ELEMENTS, MAX_FAULTS = 40, 400_000, 20


@dataclass
class _Element:
    """An element with the line it begins on."""

    tag: str
    attributes: dict[str, str]
    line: int
    children: list["_Element"] = field(default_factory=list)

    def all(self, *tags: str) -> list["_Element"]:
        """Every element of these tags below, however deep, in the order of the document."""
        found = []
        for child in self.children:
            found += [child] if child.tag in tags else []
            found += child.all(*tags)
        return found

    def direct(self, tag: str) -> list["_Element"]:
        return [child for child in self.children if child.tag == tag]

    def name(self) -> str:
        return self.attributes.get("Name", "").strip()


class _Builder:
    """Builds the tree with limits on depth and number, and refuses whatever names an entity or leads outside. The
    DOCTYPE itself is passed over; nothing it points to is fetched."""

    def __init__(self) -> None:
        self.root: _Element | None = None
        self.open: list[_Element] = []
        self.count = 0
        self.parser = expat.ParserCreate()
        self.parser.StartElementHandler = self.start
        self.parser.EndElementHandler = lambda tag: self.open.pop()
        self.parser.EntityDeclHandler = self.refuse
        self.parser.UnparsedEntityDeclHandler = self.refuse
        self.parser.ExternalEntityRefHandler = self.refuse

    def start(self, tag: str, attributes: dict[str, str]) -> None:
        line = self.parser.CurrentLineNumber
        self.count += 1
        if len(self.open) >= DEEPEST:
            raise UnreadableFile(f"Line {line}: the document is nested deeper than {DEEPEST}.")
        if self.count > MOST_ELEMENTS:
            raise UnreadableFile(f"The document has more than {MOST_ELEMENTS} elements.")
        element = _Element(tag, attributes, line)
        if self.open:
            self.open[-1].children.append(element)
        else:
            self.root = element
        self.open.append(element)

    def refuse(self, *_) -> None:
        raise UnreadableFile(
            f"Line {self.parser.CurrentLineNumber}: the document defines entities or refers to something outside it. "
            "That is not needed for names, and is refused."
        )


def read_name_document(data: bytes) -> ReadList:
    """The patch lists and note names of a name document as one list. Raises UnreadableFile that names every bad "
    "line."""
    root = _parsed(data)
    if root.tag != "MIDINameDocument":
        raise UnreadableFile(f"Line {root.line}: this is no MIDI name document: its root is {root.tag}.")
    reader = _Reader(root)
    patches = reader.read()
    if reader.faults:
        more = f"; and {len(reader.faults) - MAX_FAULTS} more" if len(reader.faults) > MAX_FAULTS else ""
        raise UnreadableFile(f"The name document cannot be used: {'; '.join(reader.faults[:MAX_FAULTS])}{more}.")
    if not patches.patches and not patches.note_maps:
        raise UnreadableFile("The name document names no patches and no notes.")
    return ReadList(patches, tuple(reader.doubts))


def _parsed(data: bytes) -> _Element:
    if len(data) > MAX_TEXT_BYTES:
        raise UnreadableFile(f"The name document is larger than {MAX_TEXT_BYTES // 2**20} MB.")
    if not data.strip():
        raise UnreadableFile("The name document is empty.")
    builder = _Builder()
    try:
        builder.parser.Parse(data, True)
    except expat.ExpatError as error:
        raise UnreadableFile(f"Line {error.lineno} of the name document: {expat.ErrorString(error.code)}.") from error
    except (ValueError, LookupError) as error:
        raise UnreadableFile(f"The name document cannot be read: {error}.") from error
    if builder.root is None:
        raise UnreadableFile("The name document holds no element.")
    return builder.root


class _Reader:
    """Walks the tree, collecting faults and doubts with their lines."""

    def __init__(self, root: _Element) -> None:
        self.root = root
        self.faults: list[str] = []
        self.doubts: list[Doubt] = []
        self.lists = {one.name(): one for one in root.all("PatchNameList") if one.name()}
        self.banks: list[Bank] = []
        self.patches: list[Patch] = []

    def read(self) -> PatchList:
        for bank in self.root.all("PatchBank"):
            self._bank(bank)
        if not self.banks and self.lists:
            # A document of bare lists: each is a bank without numbers.
            for name, one in self.lists.items():
                self.banks.append(Bank(name=name))
                self._patches(one, Bank(name=name))
        maps = [self._notes(one) for one in self.root.all("NoteNameList") if one.all("Note")]
        return PatchList(
            name=self._device(),
            banks=tuple(self.banks),
            patches=tuple(self.patches),
            note_maps=tuple(one for one in maps if one.notes),
        )

    def _device(self) -> str:
        models = self.root.all("Model")
        named = [one.attributes.get("Name", "") for one in models] + [
            one.name() for one in self.root.all("CustomDeviceMode", "ChannelNameSet")
        ]
        return next((name for name in named if name), "")

    def _bank(self, element: _Element) -> None:
        msb, lsb = self._controls(element.direct("MIDICommands"))
        bank = Bank(name=element.name(), msb=msb, lsb=lsb)
        self.banks.append(bank)
        own = element.direct("PatchNameList")
        for use in element.direct("UsesPatchNameList"):
            found = self.lists.get(use.name())
            if found is None:
                self.faults.append(f"line {use.line}: there is no PatchNameList “{use.name()}”")
            else:
                own.append(found)
        if not own:
            self.doubts.append(Doubt(element.line, element.name(), "The bank names no patches."))
        for one in own:
            self._patches(one, bank)

    def _patches(self, element: _Element, bank: Bank) -> None:
        for patch in element.all("Patch"):
            name = patch.name()
            if not name:
                self.doubts.append(Doubt(patch.line, patch.attributes.get("Number", ""), "It has no name; left out."))
                continue
            commands = patch.direct("PatchMIDICommands")
            msb, lsb = self._controls(commands)
            program = self._program(patch, commands)
            if program is None:
                continue
            self.patches.append(
                Patch(
                    name=name,
                    program=program,
                    number=patch.attributes.get("Number", ""),
                    bank=len(self.banks) - 1,
                    msb=bank.msb if msb is None else msb,
                    lsb=bank.lsb if lsb is None else lsb,
                )
            )

    def _program(self, patch: _Element, commands: list[_Element]) -> int | None:
        changes = [change for command in commands for change in command.direct("ProgramChange")]
        text = patch.attributes.get("ProgramChange") or (changes[-1].attributes.get("Number") if changes else None)
        if text is None:
            self.faults.append(f"line {patch.line}: patch “{patch.name()}” has no program change")
            return None
        return self._number(text, patch.line, "program change")

    def _controls(self, commands: list[_Element]) -> tuple[int | None, int | None]:
        found: dict[int, int | None] = {}
        for command in commands:
            for change in command.direct("ControlChange"):
                control = self._number(change.attributes.get("Control", ""), change.line, "control")
                if control in (BANK_MSB, BANK_LSB):
                    found[control] = self._number(change.attributes.get("Value", ""), change.line, "value")
        return found.get(BANK_MSB), found.get(BANK_LSB)

    def _notes(self, element: _Element) -> NoteMap:
        notes: dict[int, str] = {}
        for note in element.all("Note"):
            number = self._number(note.attributes.get("Number", ""), note.line, "note")
            if number is None:
                continue
            if number in notes:
                self.doubts.append(
                    Doubt(note.line, note.name(), f"Note {number} is named already; the first name stays.")
                )
            notes.setdefault(number, note.name())
        ordered = tuple(NoteName(note=number, name=name) for number, name in sorted(notes.items()))
        return NoteMap(name=element.name(), notes=ordered)

    def _number(self, text: str, line: int, what: str) -> int | None:
        if text.strip().isdecimal() and int(text) <= 127:
            return int(text)
        self.faults.append(f"line {line}: {what} “{text}” should be 0 to 127")
        return None


def write_name_document(patches: PatchList) -> str:
    """A list as a name document: one device, one name set for all channels, a patch bank a bank."""
    device = patches.name or "Patch list"
    lines = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        DOCTYPE,
        "<MIDINameDocument>",
        "  <Author>Hypotaxis</Author>",
        "  <MasterDeviceNames>",
        f"    <Manufacturer>Any</Manufacturer>\n    <Model Name={quoteattr(device)}>{escape(device)}</Model>",
        f"    <CustomDeviceMode Name={quoteattr(device)}>",
        "      <ChannelNameSetAssignments>",
        *(f'        <ChannelNameSetAssign Channel="{n}" NameSet="All channels"/>' for n in range(1, 17)),
        "      </ChannelNameSetAssignments>",
        "    </CustomDeviceMode>",
        '    <ChannelNameSet Name="All channels">',
        "      <AvailableForChannels>",
        *(f'        <AvailableChannel Channel="{n}" Available="true"/>' for n in range(1, 17)),
        "      </AvailableForChannels>",
    ]
    lines += [f"      <UsesNoteNameList Name={quoteattr(one.name)}/>" for one in patches.note_maps[:1]]
    for number, bank in enumerate(patches.banks):
        lines += _bank_lines(bank, [patch for patch in patches.patches if patch.bank == number])
    lines.append("    </ChannelNameSet>")
    for one in patches.note_maps:
        lines.append(f"    <NoteNameList Name={quoteattr(one.name)}>")
        lines += [f'      <Note Number="{note.note}" Name={quoteattr(note.name)}/>' for note in one.notes]
        lines.append("    </NoteNameList>")
    return "\n".join([*lines, "  </MasterDeviceNames>", "</MIDINameDocument>", ""])


def _bank_lines(bank: Bank, patches: list[Patch]) -> list[str]:
    lines = [f"      <PatchBank Name={quoteattr(bank.name)}>"]
    commands = _control_lines(bank.msb, bank.lsb)
    if commands:
        lines += ["        <MIDICommands>", *commands, "        </MIDICommands>"]
    lines.append(f"        <PatchNameList Name={quoteattr(bank.name or 'Patches')}>")
    for patch in patches:
        head = (
            f"          <Patch Number={quoteattr(patch.number)} Name={quoteattr(patch.name)} "
            f'ProgramChange="{patch.program}"'
        )
        own = _control_lines(patch.msb, patch.lsb) if (patch.msb, patch.lsb) != (bank.msb, bank.lsb) else []
        change = f'            <ProgramChange Number="{patch.program}"/>'
        lines += (
            [f"{head}>", "          <PatchMIDICommands>", *own, change, "          </PatchMIDICommands></Patch>"]
            if own
            else [f"{head}/>"]
        )
    return [*lines, "        </PatchNameList>", "      </PatchBank>"]


def _control_lines(msb: int | None, lsb: int | None) -> list[str]:
    pairs = ((BANK_MSB, msb), (BANK_LSB, lsb))
    return [f'          <ControlChange Control="{c}" Value="{v}"/>' for c, v in pairs if v is not None]
