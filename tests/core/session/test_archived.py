"""A session as one value: text and back, other uids, what is refused."""

import json
from dataclasses import replace
from pathlib import Path

from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.session.archived import (
    ArchivedPass,
    ArchivedSession,
    ArchivedTake,
    ArchivedTrack,
    read_session,
    session_schema,
    with_other_uids,
    write_session,
)

A, B, C, D = (f"{number:08x}-0000-4000-8000-000000000000" for number in range(4))
TRACK = ArchivedTrack(A, "Kit", 0, notes=((0, 120, 36, 100),), chosen=[[D, 1, 2, 0]])
SETUP = {"parts": [], "inputs": ["in 1"], "names": [A], "first_sample": -500, "frames": 1000, "rate": 48_000}
RUN = ArchivedPass(B, 1, 1, 2, setup=SETUP)
TAKE = ArchivedTake(D, A, B, 1, f"{D}.wav", 48_000, 2, 1000, -500)
KICK = ArchivedTrack(C, "Kick", 1, voice_of=A)
SESSION = ArchivedSession(
    "Tide Tables", 480, ((0, 500_000),), ((0, 4, 4),), 7680, {"box": A}, (TRACK, KICK), (RUN,), (TAKE,), ((0, "Ebb"),)
)
DUMP = {"box_uid": A, "box_name": "Kit", "data": "f07d01f7", "source": "asked"}
text = st.text(st.characters(codec="utf-8"), min_size=1, max_size=30).filter(str.strip)
rows = st.lists(st.tuples(st.integers(0, 2**40), st.integers(0, 2**40), *[st.integers(0, 127)] * 2), max_size=5)


class TextTest(SimpleTestCase):
    @given(text, rows, rows, st.none() | st.floats(-120, 0), st.sampled_from([{}, {"first_bar": 3, "bars": 6}]))
    def test_what_is_written_is_read_exactly(self, name, notes, controls, peak, loop):
        track = replace(TRACK, name=name, notes=tuple(notes), controls=tuple(controls))
        session = replace(SESSION, tracks=(track, SESSION.tracks[1]), takes=(replace(TAKE, peak_db=peak),), loop=loop)
        self.assertEqual(read_session(write_session(session)), session)

    def test_other_uids_stand_wherever_one_is_named_and_the_rig_keeps_its_own(self):
        new = {uid: uid.replace("0000-4000", "1111-4000") for uid in (A, B, D)}
        found = with_other_uids(SESSION, new)
        self.assertEqual(found.takes[0].track, new[A])
        self.assertEqual(found.takes[0].sound, f"{new[D]}.wav")
        self.assertEqual(found.passes[0].setup["names"], [new[A]])
        self.assertEqual((found.tracks[0].chosen, found.tracks[1].voice_of), ([[new[D], 1, 2, 0]], new[A]))
        self.assertEqual((found.tracks[1].uid, found.rig), (C, SESSION.rig))

    def test_the_published_schema_is_that_of_the_classes(self):
        published = Path(__file__).parents[3] / "docs/formats/session.schema.json"
        self.assertEqual(json.loads(published.read_text()), session_schema())

    def test_what_an_older_version_wrote_is_read_on(self):
        plain = to_json(SESSION) | {"version": 1}
        del plain["rigs"], plain["passes"][0]["kept_rig"]
        self.assertEqual(read_session(json.dumps(plain)), replace(SESSION, version=1))

    def test_what_is_wrong_is_told_with_its_place(self):
        plain = to_json(SESSION)

        def changed(**fields) -> str:
            return json.dumps(plain | fields)

        def of_take(**fields) -> str:
            return changed(takes=[plain["takes"][0] | fields])

        def of_track(**fields) -> str:
            return changed(tracks=[plain["tracks"][0] | fields])

        cases = {
            "{": "session.json is not JSON",
            "[" * 100_000: "session.json is nested too deeply|is not JSON",
            "[]": "no session of Hypotaxis",
            changed(format="other"): "no session of Hypotaxis",
            changed(version=None): "of which version",
            changed(version=3): "newer Hypotaxis .version 3",
            changed(tempos=[[0, "fast"]]): "damaged",
            changed(tracks=None): "damaged",
            changed(name=" "): "the name is empty",
            changed(tempos=[[5, 500_000]]): "do not begin at the beginning",
            changed(tempos=[[0, 0]]): "a tempo is none",
            changed(meters=[[0, 4, 3]]): "a meter is none",
            changed(ticks_per_quarter=0): "ticks a quarter",
            of_track(notes=[[0, 1, 200, 1]]): "out of range",
            of_track(notes=[[-1, 1, 2, 1]]): "out of range",
            of_track(voice_of=A): "belongs to one that is not there",
            of_track(uid="../../etc"): "a uid is none",
            of_take(track=C[:-1] + "9"): "take 1 belongs to nothing",
            of_take(frames=0): "take 1 has no sound",
            of_take(sample_rate=10**9): "1000000000 Hz",
            of_take(uid=A): "two things have one uid",
            of_take(round=1): "a time round that was none",
            of_take(hits=[["x"]]): "a hit of take 1 is none",
            of_take(measurement={"lateness_ms": []}): "the lateness of take 1 is none",
            of_track(grid={"seed": -1}): "the grid of track Kit is none",
            of_track(generator={"kind": "bomb"}): "the generator of track Kit is none",
            of_track(mix={"level_db": 1e9}): "the level of track Kit is none",
            of_track(chosen=[3]): "what stands of track Kit is none",
            of_take(made="2026-13-45T10:00:00"): "the day on which take 1 was made is none",
            changed(dumps=[DUMP | {"data": "f07d"}]): "a dump of Kit is none",
            changed(dumps=[DUMP | {"data": ""}]): "a dump of Kit is none",
            changed(passes=[plain["passes"][0] | {"kept_rig": "none"}]): "the rig of pass 1 is not there",
            changed(handover={"form": "mp3"}): "what it hands over is none",
            changed(mix={"groups": 3}): "the mix is none",
            changed(loop={"first_bar": -4}): "the loop is none",
            changed(passes=[plain["passes"][0] | {"setup": {"rate": 1}}]): "what was frozen of pass 1 is none",
            changed(passes=[plain["passes"][0] | {"tempo": {"tempos": []}}]): "the tempo of pass 1 is none",
        }
        for given_text, told in cases.items():
            with self.subTest(told), self.assertRaisesRegex(UnreadableFile, told):
                read_session(given_text)
