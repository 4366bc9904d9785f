"""MIDI name documents: the published XML format for the names of patches and notes (MIDI Manufacturers Association).

Read: master devices, channel name sets, patch banks with their MIDI commands, patch name lists (in place or by name),
note name lists. What is faulty in one entry costs that entry only, and is told with its line. A DOCTYPE is accepted,
since these documents carry one; entities and references to the outside are refused. Written: one master device with one
name set.
"""

from dataclasses import dataclass, field
from xml.parsers import expat
from xml.sax.saxutils import escape, quoteattr

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.text import MAX_TEXT_BYTES
from hypotaxis.core.midi.programs import BANK_LSB, BANK_MSB
from hypotaxis.core.patches.values import Bank, Doubt, NoteMap, NoteName, Patch, PatchList, ReadList
from hypotaxis.core.units import whole_of

LONGEST_TOLD = 40
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
    """The patch lists and note names of a name document as one list, faulty entries left out and named. Raises
    UnreadableFile for what is no name document, and for one in which nothing can be used."""
    root = _parsed(data)
    if root.tag != "MIDINameDocument":
        raise UnreadableFile(f"Line {root.line}: this is no MIDI name document: its root is {root.tag}.")
    reader = _Reader(root)
    patches = reader.read()
    if not patches.patches and not patches.note_maps:
        faults = [f"line {doubt.line}: {doubt.reason[:1].lower()}{doubt.reason[1:-1]}" for doubt in reader.doubts]
        more = f"; and {len(faults) - MAX_FAULTS} more" if len(faults) > MAX_FAULTS else ""
        why = f": {'; '.join(faults[:MAX_FAULTS])}{more}" if faults else ""
        raise UnreadableFile(f"The name document names no patches and no notes{why}.")
    return ReadList(patches, tuple(sorted(reader.doubts, key=lambda doubt: doubt.line)))


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
    """Walks the tree, collecting what is doubtful or left out with its line."""

    def __init__(self, root: _Element) -> None:
        self.root = root
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
        numbers, _ = self._controls(element.direct("MIDICommands"))
        msb, lsb = numbers.get(BANK_MSB), numbers.get(BANK_LSB)
        bank = Bank(name=element.name(), msb=msb, lsb=lsb)
        self.banks.append(bank)
        own = element.direct("PatchNameList")
        for use in element.direct("UsesPatchNameList"):
            found = self.lists.get(use.name())
            if found is None:
                self.doubts.append(Doubt(use.line, use.name(), f"There is no PatchNameList “{use.name()}”."))
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
            numbers, controls = self._controls(commands)
            program, faulty = self._program(patch, commands)
            if program is None and (faulty or not (numbers or controls)):
                if not faulty:
                    told = f"Patch “{name}” has no program change and no controllers; left out."
                    self.doubts.append(Doubt(patch.line, name, told))
                continue
            self.patches.append(
                Patch(
                    name=name,
                    program=program,
                    number=patch.attributes.get("Number", ""),
                    bank=len(self.banks) - 1,
                    msb=numbers.get(BANK_MSB, bank.msb),
                    lsb=numbers.get(BANK_LSB, bank.lsb),
                    controls=tuple(controls),
                )
            )

    def _program(self, patch: _Element, commands: list[_Element]) -> tuple[int | None, bool]:
        """(program, whether one is named that cannot be one)."""
        changes = [change for command in commands for change in command.direct("ProgramChange")]
        named = [(patch.attributes["ProgramChange"], patch.line)] if "ProgramChange" in patch.attributes else []
        named += [(change.attributes.get("Number", ""), change.line) for change in changes[-1:]]
        for text, line in named:
            program = self._number(text, line, "program change")
            if program is not None:
                return program, False
        return None, bool(named)

    def _controls(self, commands: list[_Element]) -> tuple[dict[int, int], list[tuple[int, int]]]:
        """(bank select numbers by controller, other controllers with their values in their order)."""
        banks: dict[int, int] = {}
        others = []
        for command in commands:
            for change in command.direct("ControlChange"):
                control = self._number(change.attributes.get("Control", ""), change.line, "control")
                value = self._number(change.attributes.get("Value", ""), change.line, "value")
                if control is None or value is None:
                    continue
                if control in (BANK_MSB, BANK_LSB):
                    banks[control] = value
                else:
                    others.append((control, value))
        return banks, others

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
        number = whole_of(text)
        if number is not None and number <= 127:
            return number
        text = text if len(text) <= LONGEST_TOLD else f"{text[:LONGEST_TOLD]}…"
        self.doubts.append(Doubt(line, text, f"{what.capitalize()} “{text}” should be 0 to 127; left out."))
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
        head = f"          <Patch Number={quoteattr(patch.number)} Name={quoteattr(patch.name)}"
        head += "" if patch.program is None else f' ProgramChange="{patch.program}"'
        same = patch.program is not None and (patch.msb, patch.lsb) == (bank.msb, bank.lsb)
        own = [] if same else _control_lines(patch.msb, patch.lsb)
        change = [] if patch.program is None else [f'            <ProgramChange Number="{patch.program}"/>']
        others = [f'          <ControlChange Control="{number}" Value="{value}"/>' for number, value in patch.controls]
        inside = [*own, *change, *others] if own or others else []
        lines += (
            [f"{head}>", "          <PatchMIDICommands>", *inside, "          </PatchMIDICommands></Patch>"]
            if inside
            else [f"{head}/>"]
        )
    return [*lines, "        </PatchNameList>", "      </PatchBank>"]


def _control_lines(msb: int | None, lsb: int | None) -> list[str]:
    pairs = ((BANK_MSB, msb), (BANK_LSB, lsb))
    return [f'          <ControlChange Control="{c}" Value="{v}"/>' for c, v in pairs if v is not None]
