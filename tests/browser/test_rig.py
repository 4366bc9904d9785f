"""Step 1, the rig, by pointer, by keyboard and by form."""

from playwright.sync_api import expect

from hypotaxis.records.models import Box, Cable
from tests.browser.base import BrowserTest


class RigTest(BrowserTest):
    def test_a_cable_is_drawn_by_clicking_its_two_ends_and_its_trip_is_written(self):
        self.go("rig:home")
        self.page.get_by_role("link", name="Draw this cable").click()
        self.see("Choose the socket the cable goes to")
        self.page.get_by_label("Bittern out, free; draw the cable here").click()
        self.see("Bittern’s trip")
        expect(self.page.locator(".trip-text")).to_contain_text("leaves by Bittern out and comes home on line in 3.")
        self.assertEqual(self.page.locator(".cable-strong").count(), 5)
        self.page.keyboard.press("Control+z")
        self.see("Undone: connect Bittern out to Quayside 18 line in 3.")
        self.see("Bittern has no way home")
        self.page.keyboard.press("Control+Shift+Z")
        self.see("Done again: connect Bittern out")
        self.assertTrue(Cable.objects.filter(source__box__name="Bittern", source__label="out").exists())

    def test_a_cable_is_drawn_with_the_keyboard_alone(self):
        self.go("rig:home")
        self.page.get_by_label("Alder kick, free").focus()
        self.page.keyboard.press("Enter")
        self.see("Choose the socket the cable goes to")
        self.page.get_by_label("Quayside 18 line in 7, free; draw the cable here").focus()
        self.page.keyboard.press("Space")
        self.page.wait_for_url("**/rig/?at=*")
        expect(self.page.get_by_label("Alder kick, cabled to Quayside 18 line in 7")).to_be_visible()
        self.page.keyboard.press("Escape")
        self.see("Choose a socket to see its trip")

    def test_a_cable_is_drawn_by_form_and_a_bad_one_is_explained(self):
        self.go("rig:home")
        self.page.keyboard.press("c")
        self.page.get_by_label("From", exact=True).select_option(label="Alder: snare")
        self.page.get_by_label("To", exact=True).select_option(label="Alder: thru")
        self.button("Connect")
        self.see("A cable joins two sockets of one kind")
        self.page.get_by_label("To", exact=True).select_option(label="Quayside 18: line in 8")
        self.page.get_by_label("Length, m").fill("2.5")
        self.button("Connect")
        expect(self.page.get_by_label("Alder snare, cabled to Quayside 18 line in 8")).to_be_visible()
        self.assertEqual(Cable.objects.get(source__label="snare").length_m, 2.5)

    def test_a_box_is_added_named_coloured_moved_and_removed(self):
        self.go("rig:home")
        self.page.keyboard.press("a")
        self.page.get_by_label("Kind of box").select_option(label="Outboard effect")
        self.page.get_by_label("Name", exact=True).fill("Eelgrass")
        self.page.get_by_label("Colour of its tab").select_option(label="sea")
        self.button("Add to the rig")
        self.see("Eelgrass stands on the sheet")
        box = self.page.get_by_label("Eelgrass, outboard effect: change")
        below = box.bounding_box()["y"]
        box.click()
        self.button("Move up")
        self.assertLess(self.page.get_by_label("Eelgrass, outboard effect: change").bounding_box()["y"], below)
        self.assertEqual(Box.objects.get(name="Eelgrass").colour, "#6FA8A2")
        self.button("Remove Eelgrass")
        self.see("Undo brings them back")
        self.page.locator("#undo").click()
        expect(self.page.get_by_label("Eelgrass, outboard effect: change")).to_be_visible()

    def test_a_box_is_found_by_a_part_of_its_name(self):
        self.go("rig:home")
        self.page.keyboard.press("f")
        self.page.keyboard.type("alder ki")
        self.page.keyboard.press("Enter")
        self.see("on the sheet")
        expect(self.page.locator(".dot-strong, .unit-strong")).to_have_count(1)
        self.page.keyboard.press("Escape")
        self.see("Choose a socket to see its trip")

    def test_a_cable_is_unplugged_from_its_own_sheet(self):
        self.go("rig:home")
        self.page.get_by_label("Cable from Sedge thru to Bittern MIDI in").focus()
        self.page.keyboard.press("Enter")
        self.button("Unplug this cable")
        self.see("The cable is out")
        self.see("No cable from Quayside 18 MIDI out to Bittern")


class RigsTest(BrowserTest):
    def test_a_rig_is_copied_renamed_saved_and_left_again(self):
        self.go("rig:home")
        self.page.get_by_title("Rigs: choose").click()
        self.button("Go on with a copy")
        self.see("This is Saltmarsh Room, copy")
        self.page.get_by_title("Rigs: choose").click()
        self.page.get_by_label("Name of the rig").fill("Tour set")
        self.page.get_by_label("Buffer").select_option(label="128 samples")
        self.page.get_by_role("button", name="Keep").click()
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


class EmptyRigTest(BrowserTest):
    demo = False

    def test_from_an_empty_desk_to_a_defined_instrument(self):
        self.go("rig:home")
        self.page.get_by_role("link", name="Add an interface").last.click()
        self.page.get_by_label("Name", exact=True).fill("Pier")
        self.button("Add to the rig")
        self.see("Pier stands on the sheet")
        self.page.keyboard.press("a")
        self.page.get_by_label("Kind of box").select_option(label="Mono synth")
        self.page.get_by_label("Name", exact=True).fill("Sandpiper")
        self.button("Add to the rig")
        for one, other in (("Pier MIDI out", "Sandpiper MIDI in"), ("Sandpiper out", "Pier line in 1")):
            self.page.get_by_label(f"{one}, free").click()
            self.page.get_by_label(f"{other}, free; draw the cable here").click()
            expect(self.page.get_by_label(f"{one}, cabled to {other}")).to_be_visible()
        self.see("Sandpiper is not an instrument yet")
        self.page.get_by_role("link", name="Define it").click()
        self.button("Define it")
        self.see("Notes leave by")
        self.button("Play the note")
        self.see("It came home on line in 1.")
