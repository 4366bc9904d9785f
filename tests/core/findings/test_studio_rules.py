"""What real devices report, held against the plan."""

from dataclasses import replace

from django.test import SimpleTestCase

from hypotaxis.core.findings.rules import check
from hypotaxis.core.plan import Plan
from hypotaxis.core.studio import AudioEnd, Port, Reported, RunTold
from tests.core.findings.test_rules import found
from tests.rooms import small_room

RULES = {"rate-differs", "buffer-differs", "no-real-time-rights", "frames-lost", "end-unmatched"}


def fitting_studio(plan: Plan, **fields) -> Reported:
    """One that reports all that the plan's sockets are matched to."""
    sockets = [socket for _, socket in plan.rig.each_socket() if socket.system_name]
    ends = tuple(AudioEnd(one.system_name, one.system_name) for one in sockets if one.kind == "audio")
    ports = tuple(Port(one.system_name, "out") for one in sockets if one.kind == "midi")
    usual = {"rate": plan.rig.sample_rate, "buffer": plan.rig.buffer, "realtime": True}
    return Reported(studio="jack", server="default", ports=ports, inputs=ends, outputs=ends, **usual | fields)


class StudioRulesTest(SimpleTestCase):
    def test_a_studio_that_fits_is_calm_and_the_stand_in_is_not_asked(self):
        plan = small_room()
        for studio in (None, fitting_studio(plan)):
            told = {finding.rule for finding in check(replace(plan, studio=studio, told=RunTold(seconds=60.0)))}
            self.assertEqual(told & RULES, set())

    def test_what_does_not_fit_is_told_with_its_remedy(self):
        plan = small_room()
        other = replace(plan, studio=fitting_studio(plan, rate=44_100, buffer=1024, realtime=False))
        self.assertEqual(found(other, "rate-differs")[0].fix.apply(plan).rig.sample_rate, 44_100)
        self.assertEqual(found(other, "buffer-differs")[0].fix.apply(plan).rig.buffer, 1024)
        self.assertIn("adduser", found(other, "no-real-time-rights")[0].remedy)
        unknown = replace(plan, studio=fitting_studio(plan, realtime=None))
        self.assertEqual(found(unknown, "no-real-time-rights"), [], "a server that does not say is not blamed")

    def test_ends_that_are_not_there_are_told_by_box(self):
        plan = small_room()
        studio = fitting_studio(plan)
        without = replace(studio, inputs=tuple(end for end in studio.inputs if "line in 3" not in end.name), outputs=())
        (finding,) = found(replace(plan, studio=without), "end-unmatched")
        self.assertEqual(finding.title, "line in 3 of Quayside 18 has no counterpart")
        self.assertEqual(finding.lead.kind, "ends")

    def test_a_run_that_lost_something_is_remembered(self):
        told = RunTold(seconds=160.0, xruns=3, lost=512, late=2)
        (finding,) = found(replace(small_room(), told=told), "frames-lost")
        self.assertEqual(finding.title, "In the last run 512 frames did not come and 2 messages left too late")
