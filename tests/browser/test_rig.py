"""Step 1, the rig, by pointer, by keyboard and by form."""

from playwright.sync_api import Locator, expect

from hypotaxis.records.models import Box, Cable, Rig, Route, Socket
from tests.browser.base import BrowserTest


class SheetTest(BrowserTest):
    def socket(self, spoken: str) -> Locator:
        """A socket of the sheet by the beginning of what is spoken of it."""
        return self.page.locator(f".socket[aria-label^='{spoken}']")


class CablesTest(SheetTest):
    def test_a_cable_is_drawn_by_choosing_its_two_ends_and_its_trip_is_written(self):
        self.go("rig:home")
        self.socket("Quayside 18 line in 4, free").click()
        self.see("Choose the socket the cable goes to")
        self.socket("Sluice out, free; draw the cable here").click()
        self.see("Withy’s trip")
        strip = self.page.locator(".trip-text")
        expect(strip).to_contain_text("leaves by Withy out, goes through Sluice and comes home on line in 4.")
        # 10 V peak to peak are +13.2 dBu; the converter takes 12 dB off; the input takes +18 dBu.
        expect(strip).to_contain_text("+13.2 → Sluice out +1.2")
        expect(strip).to_contain_text("17 dB of headroom at line in 4")
        self.press("Control+z")
        self.see("Undone: connect Sluice out to Quayside 18 line in 4.")
        self.see("Withy has no way home")
        self.press("Control+Shift+Z")
        self.see("Done again: connect Sluice out")
        self.assertTrue(Cable.objects.filter(source__box__name="Sluice", source__label="out").exists())

    def test_a_cable_is_drawn_by_dragging_and_an_end_is_dragged_elsewhere(self):
        self.go("rig:home")
        self.drag(self.socket("Sluice out"), self.socket("Quayside 18 line in 4"))
        self.see("Withy’s trip")
        self.press("Escape")
        cable = Cable.objects.get(source__box__name="Sluice")
        self.drag(self.socket("Quayside 18 mic 1, cabled"), self.socket("Quayside 18 MIDI in"))
        self.see("The cable stays where it was")
        self.drag(self.socket("Alder kick, cabled"), self.socket("Alder snare, free"))
        expect(self.socket("Alder snare, cabled to Quayside 18 mic 1")).to_be_visible()
        self.assertEqual(Cable.objects.get(source__box__name="Sluice"), cable)
        self.press("Control+z")
        self.see("Undone: re-plug Alder kick to Alder snare.")
        expect(self.socket("Alder kick, cabled to Quayside 18 mic 1")).to_be_visible()

    def test_a_cable_is_drawn_with_the_keyboard_alone(self):
        self.go("rig:home")
        self.socket("Alder snare, free").focus()
        self.press("Enter")
        self.see("Choose the socket the cable goes to")
        expect(self.page.locator("[data-socket]:focus")).to_have_attribute("aria-label", "Alder snare, free")
        self.socket("Quayside 18 line in 4, free; draw the cable here").focus()
        self.press("Space")
        self.page.wait_for_url("**/rig/?at=*")
        expect(self.socket("Alder snare, cabled to Quayside 18 line in 4")).to_be_visible()
        expect(self.page.locator("[data-socket]:focus")).to_have_attribute(
            "aria-label", "Quayside 18 line in 4, cabled to Alder snare"
        )
        self.press("Escape")
        self.see("Choose a socket to see its trip")

    def test_a_cable_is_drawn_by_form_and_a_bad_one_is_explained(self):
        self.go("rig:home")
        self.press("c")
        self.page.get_by_label("From", exact=True).select_option(label="Alder: snare")
        self.page.get_by_label("To", exact=True).select_option(label="Alder: thru")
        self.button("Connect")
        self.see("A cable joins two sockets of one kind")
        self.page.get_by_label("To", exact=True).select_option(label="Quayside 18: line in 4")
        self.page.get_by_label("Length, m").fill("2.5")
        self.button("Connect")
        expect(self.socket("Alder snare, cabled to Quayside 18 line in 4")).to_be_visible()
        self.assertEqual(Cable.objects.get(source__label="snare").length_m, 2.5)

    def test_a_cable_is_unplugged_from_its_own_sheet(self):
        self.go("rig:home")
        self.page.get_by_label("Cable from Sedge thru to Bittern MIDI in").focus()
        self.press("Enter")
        self.button("Unplug this cable")
        self.see("The cable is out")
        self.see("No cable from Junction out 2 to Bittern")


class BoxesTest(SheetTest):
    def test_a_box_is_added_named_coloured_dragged_and_removed(self):
        self.page.set_viewport_size({"width": 1280, "height": 1100})
        self.go("rig:home")
        self.press("a")
        self.page.get_by_label("Kind of box").select_option(label="Outboard effect")
        self.page.get_by_label("Name", exact=True).fill("Curlew")
        self.page.get_by_label("Colour of its tab").select_option(label="sea")
        self.button("Add to the rig")
        self.see("Curlew stands on the sheet")
        self.assertEqual(Box.objects.get(name="Curlew").colour, "#6FA8A2")
        curlew, alder = (self.page.locator(f".box-link[aria-label^='{name},']") for name in ("Curlew", "Alder"))
        self.drag(curlew, alder)
        self.page.wait_for_load_state("networkidle")
        self.assertLess(curlew.bounding_box()["y"], alder.bounding_box()["y"])
        self.assertTrue(Box.objects.get(name="Curlew").by_hand)
        curlew.click()
        self.button("Move down")
        self.assertGreater(curlew.bounding_box()["y"], alder.bounding_box()["y"])
        self.button("Remove Curlew")
        self.see("Undo brings them back")
        self.page.locator("#undo").click()
        expect(curlew).to_be_visible()

    def test_a_socket_is_labelled_as_on_the_panel_and_what_follows_it_follows(self):
        self.go("rig:home")
        self.page.locator(".box-link[aria-label^='Sedge,']").click()
        self.page.get_by_role("link", name="MIDI in", exact=True).click()
        self.page.get_by_label("Label, as printed").fill("IN 1")
        self.page.get_by_label("Connector").select_option(label="3.5 mm TRS, MIDI")
        self.button("Keep")
        self.assertEqual(Socket.objects.get(box__name="Sedge", label="thru").thru_of, "IN 1")
        self.page.get_by_role("link", name="Add a socket").click()
        self.page.get_by_label("Label, as printed").fill("R")
        self.button("Add it")
        self.see("This box has a socket R already")
        self.page.get_by_label("Label, as printed").fill("phones")
        self.page.get_by_label("One socket for left and right").check()
        self.button("Add it")
        self.page.get_by_role("link", name="phones", exact=True).click()
        self.button("Remove this socket")
        self.see("phones of Sedge is removed")

    def test_a_box_is_found_by_a_part_of_its_name(self):
        self.go("rig:home")
        self.press("f")
        self.page.keyboard.type("alder snare")
        self.press("Enter")
        self.see("1 thing on the sheet")
        expect(self.page.locator(".unit-strong")).to_have_count(1)
        self.press("Escape")
        self.see("Choose a socket to see its trip")

    def test_the_sheet_is_looked_at_from_near_and_far(self):
        self.go("rig:home")
        sheet = self.page.locator(".sheet-svg")
        whole = sheet.get_attribute("viewBox")
        self.press("+")
        near = sheet.get_attribute("viewBox")
        self.assertLess(float(near.split()[2]), float(whole.split()[2]))
        box = sheet.bounding_box()
        self.page.mouse.move(box["x"] + 60, box["y"] + 400)
        self.page.mouse.down()
        self.page.mouse.move(box["x"] + 160, box["y"] + 430, steps=4)
        self.page.mouse.up()
        self.assertNotEqual(sheet.get_attribute("viewBox").split()[:2], near.split()[:2])
        self.press("0")
        self.assertEqual(sheet.get_attribute("viewBox"), whole)


class InsideAndPortsTest(SheetTest):
    def test_a_route_is_laid_in_the_matrix_and_filtered(self):
        self.go("rig:home")
        self.page.locator(".box-link[aria-label^='Junction 6, sends']").click()
        self.page.get_by_role("link", name="Inside").click()
        self.page.get_by_label("in 1 to out 3: not joined").click()
        self.page.get_by_role("link", name="in 1 to out 3", exact=True).click()
        self.page.get_by_label("Channels that pass").fill("1, 17")
        self.button("Keep")
        self.see("is not within the channels 1 to 16")
        self.page.get_by_label("Channels that pass").fill("1-3")
        self.page.get_by_label("Channels that change").fill("2>5")
        self.page.get_by_label("Clock and start keys pass").uncheck()
        self.button("Keep")
        self.see("in 1 to out 3, channels 1, 2, 3 only, 2 as 5, no clock")
        route = Route.objects.get(target__port_name="Junction out 3")
        self.assertEqual((route.channels, route.remap, route.clock), ([1, 2, 3], [[2, 5]], False))
        self.page.get_by_role("button", name="in 1 to out 3").click()
        expect(self.page.locator(".inside .cable")).to_have_count(0)

    def test_ports_are_named_given_a_duty_and_brought_back_to_their_reported_names(self):
        self.go("rig:home")
        self.press("o")
        self.see("Reported once more")
        self.page.get_by_label("Your name for out 4 (Junction 6)").fill("Left wall")
        self.page.get_by_label("Duty of out 4 (Junction 6)").select_option("spare")
        self.button("Keep")
        self.see("Names and duties are kept")
        self.see("Reedbed sends on a port kept for something else")
        self.button("Back to reported names")
        self.page.wait_for_load_state("networkidle")
        self.assertFalse(Socket.objects.exclude(port_name="").exists())

    def test_who_answers_on_a_channel_is_told_for_each_output(self):
        self.go("rig:home")
        self.socket("Junction 6 Junction out 2").click()
        self.page.locator(".heard-cells").get_by_text("3", exact=True).click()
        self.see("3: Bittern.")


class FindingsTest(SheetTest):
    def test_a_remedy_is_shown_before_it_is_applied_and_can_be_taken_back(self):
        self.go("rig:home")
        self.page.get_by_role("link", name="Draw this cable").click()
        self.see("Cable Sluice out to Quayside 18 line in 4.")
        self.see("1 finding would be gone; nothing new would be found")
        expect(self.page.locator(".cable-back.cable-strong")).to_have_count(1)
        self.button("Do it")
        self.see("Undo takes it back")
        self.assertFalse(self.page.get_by_text("Withy has no way home").is_visible())
        self.press("Control+z")
        self.see("Withy has no way home")

    def test_a_finding_is_meant_until_its_cause_changes(self):
        self.go("rig:home")
        item = self.page.locator(".side-item", has_text="Junction out 6 is idle")
        item.get_by_role("link", name="It is meant").click()
        self.button("It is meant")
        self.see("This field is required")
        self.page.get_by_label("It is meant to be so").fill("The delay is set by hand.")
        self.button("It is meant")
        self.see("2 set aside as meant")
        expect(item.locator("visible=true")).to_have_count(0)
        self.go("rig:home", f"?at={Socket.objects.get(port_name='Junction out 6').uid}")
        self.button("Unplug")
        self.see("The cable is out")
        self.see("1 set aside as meant")


class RigsTest(BrowserTest):
    def test_a_rig_is_copied_renamed_saved_and_left_again(self):
        self.go("rig:home")
        self.page.get_by_title("Rigs: choose").click()
        self.button("Go on with a copy")
        self.see("This is Saltmarsh Room, copy")
        self.page.get_by_title("Rigs: choose").click()
        self.page.get_by_label("Name of the rig").fill("Tour set")
        self.page.get_by_label("Buffer").select_option(label="128 samples")
        self.page.get_by_role("button", name="Keep", exact=True).click()
        expect(self.page.locator(".title-row")).to_contain_text("Tour set")
        with self.page.expect_download() as saved:
            self.page.get_by_role("link", name="Save as a file").click()
        self.assertEqual(saved.value.suggested_filename, "tour-set.json")
        self.page.get_by_label("Rig file").set_input_files(saved.value.path())
        self.button("Read it")
        self.see("Tour set is read, beside the rigs that were there")
        self.page.get_by_title("Rigs: choose").click()
        self.page.locator(".rig-line", has_text="Saltmarsh Room").get_by_role("button").click()
        expect(self.page.locator(".title-row")).to_contain_text("Saltmarsh Room")
        expect(self.page.locator(".title-row")).to_contain_text("256 samples")

    def test_a_faulty_file_is_refused_with_every_place_and_a_template_is_begun_with(self):
        self.go("rig:rigs")
        bad = b'{"format": "hypotaxis-rig", "version": 2, "uid": "x", "name": "Bad", "sample_rate": 1, "buffer": 64}'
        self.page.get_by_label("Rig file").set_input_files(
            {"name": "bad.json", "mimeType": "application/json", "buffer": bad}
        )
        self.button("Read it")
        self.see("uid should be a UUID in small letters; sample_rate should be a whole number from 8000 to 192000")
        self.assertEqual(Rig.objects.count(), 1)
        self.button("Keep as a template")
        self.see("is kept as a template")
        self.button("Begin with it")
        expect(self.page.locator(".title-row")).to_contain_text("Saltmarsh Room 2")


class EmptyRigTest(SheetTest):
    demo = False

    def test_from_an_empty_desk_to_the_first_sound_guided_in_the_picture(self):
        self.go("rig:home")
        self.page.get_by_role("link", name="Add your interface").click()
        self.page.get_by_label("Name", exact=True).fill("Pier")
        self.button("Add to the rig")
        self.page.get_by_role("link", name="Add a box that sounds").click()
        self.page.get_by_label("Name", exact=True).fill("Sandpiper")
        self.button("Add to the rig")
        expect(self.page.locator(".ghost-cable.cable-out")).to_be_visible()
        self.button("Cable Pier MIDI out to Sandpiper MIDI in")
        expect(self.page.locator(".ghost-cable.cable-back")).to_be_visible()
        self.button("Cable Sandpiper L to Pier line in 1")
        expect(self.socket("Sandpiper R, cabled to Pier line in 2")).to_be_visible()
        self.page.get_by_role("link", name="Make Sandpiper an instrument").click()
        self.button("Define it")
        self.see("Notes leave by")
        self.go("rig:home")
        self.page.get_by_role("link", name="Play a note on it").click()
        self.button("Play the note")
        self.see("It came home on line in 1–2.")
        self.go("rig:home")
        expect(self.page.locator(".guide")).to_have_count(0)
