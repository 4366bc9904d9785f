"""The lattice in the real interface: a slip seen and cured, the loop dragged and moved by key, a box described."""

import re

from playwright.sync_api import expect

from hypotaxis.core.rig.change import set_rig, set_sockets, set_up
from hypotaxis.records.journal import change_plan
from hypotaxis.records.models import FrontPanel, Rig, Session
from hypotaxis.records.plan import load_plan
from tests.browser.base import BrowserTest
from tests.rooms import box_named, uid_of


class LatticeTest(BrowserTest):
    def loop(self) -> dict:
        return Session.objects.get().loop

    def test_a_slip_is_cured_by_another_send(self):
        self.go("rig:home")
        self.press("3")
        self.see("slips from the second time on")
        self.see("1 bar 0/16 early")
        self.button("Send nothing")
        expect(self.page.get_by_text("slips from")).to_have_count(0)
        self.page.get_by_label("At the wrap").nth(1).select_option("start")
        self.see("1 bar 0/16 early")
        self.press("Control+z")
        expect(self.page.get_by_text("slips from")).to_have_count(0)

    def test_the_loops_ends_are_dragged_typed_and_moved_by_key(self):
        self.go("sync:home")
        end = self.page.get_by_label("The loop ends")
        box = end.bounding_box()
        mouse = self.page.mouse
        self.page.wait_for_load_state()
        mouse.move(box["x"] + 6, box["y"] + 20)
        mouse.down()
        mouse.move(box["x"] - 134, box["y"] + 20, steps=6)
        mouse.up()
        expect(self.page.get_by_label("bars", exact=True)).to_have_value("4")
        begin = self.page.get_by_label("The loop begins")
        begin.focus()
        self.press("ArrowRight")
        expect(self.page.get_by_label("from bar")).to_have_value("4")
        self.assertEqual((self.loop()["first_bar"], self.loop()["bars"]), (4, 3))
        self.page.get_by_label("times").fill("2")
        self.button("Loop these")
        expect(self.page.get_by_label("times")).to_have_value("2")

    def test_a_box_is_described_in_place_and_a_time_is_copied(self):
        self.go("sync:home")
        self.page.locator(".lattice").get_by_role("link", name="Sedge").click()
        self.page.get_by_label("By its clock goes").select_option("pattern")
        self.page.get_by_label("Its length, bars").fill("2")
        self.button("Keep")
        self.see("How Sedge follows is kept.")
        self.see("pattern of 2 bars")
        self.press("+")
        expect(self.page).to_have_url(re.compile("zoom=5"))
        self.unfold("Delay times and LFO rates")
        copy = self.page.get_by_label("Copy 1/8 dotted in ms")
        copy.click()
        # Where the browser keeps the clipboard shut, the figure itself is marked.
        expect(copy).to_have_text(re.compile("Copied|468.75"))


class LeaderTest(BrowserTest):
    def setUp(self):
        super().setUp()
        rig = Rig.objects.get()
        plan = load_plan(rig)
        heron = box_named(plan, "Heron 61").uid
        duty = {uid_of(plan, "Heron 61", "keys"): {"duty": "played from and clock from"}}
        leads = set_rig(set_up(set_sockets(plan, duty), heron, sends_clock=True), leader=heron)
        change_plan(rig, "Heron leads", plan, leads)
        FrontPanel.objects.create(box_uid=heron, settings={"leads_bpm": 192.0})

    def test_a_pass_goes_by_the_leaders_clock_and_its_tempo_is_laid_under_the_session(self):
        self.arm("Bittern")
        self.go("session:home")
        self.button("Listen")
        expect(self.page.locator(".leader")).to_contain_text(re.compile(r"19[12]\.\d\d"))
        self.page.locator(".leader").get_by_role("button", name="Stop").click()
        expect(self.page.locator(".leader").get_by_role("button", name="Listen")).to_be_visible()
        self.page.get_by_label("to bar").fill("2")
        self.unfold("How it is recorded")
        self.page.get_by_label("begins").select_option(label="when Heron 61 starts")
        self.button("Record 1 armed track")
        self.see("Heron 61 led at 19")
        self.button("Lay this tempo under the session")
        self.see("Tide Tables goes by the tempo of pass 1")
        expect(self.page.get_by_text("the session goes at")).to_have_count(0)
        self.press("Control+z")
        self.see("the session goes at 96")
