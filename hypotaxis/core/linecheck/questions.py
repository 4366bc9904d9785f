"""A line stays silent, and what can be heard and asked by wire does not say why: what is asked of the person, one
question at a time, and what the answers say.

A question is left out where the check knows the answer: what other boxes behind the same port answered, or that a box
told who it is. Each is answered by yes or no while the note is sent again.
"""

from collections.abc import Mapping
from dataclasses import dataclass

LAMP, SHOWS, SOUNDS, REACHES = "lamp", "shows", "sounds", "reaches"
"""Whether the interface's lamp lights; whether the box shows that a note came; whether it sounds by itself; whether
what is sent reaches an effect."""


@dataclass(frozen=True)
class Question:
    """key: one of the above; told: the question."""

    key: str
    told: str


@dataclass(frozen=True)
class Said:
    """What the answers say. told: the cause; desk: what to do by hand."""

    told: str
    desk: str


@dataclass(frozen=True)
class Silent:
    """A silent line as it is spoken of, and what is known of it. box, send, home: names; leaves: notes leave its port
    for sure, since others behind it answered; arrives: they reach the box, since it passed them on or told who it
    is."""

    box: str
    send: str
    home: str
    is_effect: bool = False
    leaves: bool = False
    arrives: bool = False


def ask(line: Silent, answers: Mapping[str, bool]) -> Question | Said:
    """The next question, or what the answers say. answers: by the questions' keys, True = yes."""
    if line.is_effect:
        return _of_an_effect(line, answers)
    if not (line.leaves or line.arrives or answers.get(LAMP)):
        lamp = f"Send the note again and look at the interface: does the lamp of {line.send} light?"
        port = "Close other programs that hold the port; plug the interface in again; then go down the start-up list."
        return _said_no(LAMP, lamp, answers, Said(f"Nothing leaves by {line.send}.", port))
    if not (line.arrives or answers.get(SHOWS)):
        shows = f"Does {line.box} show that a note came, by a lamp or on its display?"
        cable = f"Try another MIDI cable, into the IN of {line.box}; look whether it takes notes from that socket."
        lost = f"Notes leave by {line.send} and do not reach {line.box}."
        return _said_no(SHOWS, shows, answers, Said(lost, cable))
    if not answers.get(SOUNDS):
        sounds = f"Plug headphones into {line.box}, or let it play its own demo: does it sound?"
        level = "Turn its volume and the part's level up; leave any mode that ignores notes; call up another sound."
        mute = f"{line.box} gets its notes and makes no sound of them."
        return _said_no(SOUNDS, sounds, answers, Said(mute, level))
    return Said(
        f"{line.box} sounds, and nothing of it reaches {line.home}.",
        f"Try another cable from {line.box} to {line.home}, and another input; look at its gain and switches.",
    )


def _said_no(key: str, question: str, answers: Mapping[str, bool], no: Said) -> Question | Said:
    return no if key in answers else Question(key, question)


def _of_an_effect(line: Silent, answers: Mapping[str, bool]) -> Question | Said:
    if REACHES not in answers:
        return Question(REACHES, f"Send it again and look at {line.box}: does its input meter or lamp move?")
    if not answers[REACHES]:
        return Said(
            f"What is sent does not reach {line.box}.",
            f"Look at the cable from the interface's output to {line.box}, and at the level of its input.",
        )
    return Said(
        f"{line.box} gets what is sent, and nothing of it reaches {line.home}.",
        f"Take {line.box} out of bypass or mute, its output up; look at the cable to {line.home}.",
    )
