"""Who of the room may come in: the passphrase, the limit of tries, devices."""

import unittest

from hypotaxis.core.errors import NotLetIn
from hypotaxis.core.room import LASTS_S, MOST_DEVICES, TRIES, TRIES_OF_ALL, WITHIN_S, Room

WORDS = "tidal reed marsh heron lantern quay"


class RoomTest(unittest.TestCase):
    def setUp(self):
        self.now = 1000.0
        self.room = Room(WORDS, clock=lambda: self.now)

    def enter(self, words: str = WORDS, address: str = "10.0.0.7") -> str:
        return self.room.enter(words, name=" Tablet\n at the\tkeys ", address=address)

    def test_six_words_let_a_device_in_however_they_are_written(self):
        for written in (WORDS, "  Tidal-REED marsh, heron\nlantern quay "):
            device = self.room.device(self.enter(written))
            self.assertEqual((device.name, device.address), ("Tablet at the keys", "10.0.0.7"))
        self.assertEqual(len(self.room.devices), 2)
        self.assertIsNone(self.room.device(""))
        self.assertNotIn(self.enter(), repr(self.room.devices))

    def test_wrong_words_are_limited_for_an_address_and_the_right_ones_wait_as_well(self):
        for left in range(TRIES - 1, -1, -1):
            told = f"{left} more {'try' if left == 1 else 'tries'}" if left else "no more tries for ten minutes"
            with self.assertRaisesRegex(NotLetIn, told):
                self.enter(WORDS[:-1])
        with self.assertRaisesRegex(NotLetIn, "wrong 5 times. It can be tried again in 10 minutes"):
            self.enter()
        self.assertTrue(self.enter(address="10.0.0.8"))
        self.now += WITHIN_S - 30
        with self.assertRaisesRegex(NotLetIn, "in 1 minute;"):
            self.enter()
        self.now += 31
        self.assertTrue(self.enter())

    def test_many_addresses_together_are_limited_too(self):
        for number in range(TRIES_OF_ALL):
            with self.assertRaises(NotLetIn):
                self.enter("x", address=f"10.0.1.{number}")
        with self.assertRaisesRegex(NotLetIn, f"wrong {TRIES_OF_ALL} times"):
            self.enter(address="10.0.2.1")

    def test_a_device_ends_when_it_is_ended_and_after_its_time(self):
        first, second = self.enter(), self.enter()
        self.room.end(self.room.device(first).uid)
        self.assertIsNone(self.room.device(first))
        self.now += LASTS_S - 1
        self.assertEqual(self.room.device(second).seen, self.now)
        self.now += 1
        self.assertIsNone(self.room.device(second))

    def test_no_more_devices_than_a_room_has(self):
        for _ in range(MOST_DEVICES):
            self.enter()
        with self.assertRaisesRegex(NotLetIn, "are in already"):
            self.enter()
