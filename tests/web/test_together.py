"""Items of several jobs on the plates of one, over HTTP."""

import unittest

from tests.support import box, stl, tee
from tests.web.test_app import AppCase
from upright_heron.store.prints import NewPrint, Stage
from upright_heron.store.yard import Standing

HTMX = {"HX-Request": "true"}


class TogetherTest(AppCase):
    def setUp(self):
        self.store = self.client.app.state.services.store

    def named(self, name, body, due=None, **more):
        job_id = self.job(stl(body), f"{name}.stl")
        self.change(job_id, "keep-machine")
        self.change(job_id, "rename", name=name)
        if due:
            self.change(job_id, "order", due=due)
        for kind, fields in more.items():
            self.change(job_id, kind, **fields)
        return job_id

    def bring(self, host, source, status=200):
        answer = self.client.post(f"/jobs/{host}/bring?open=9", data={"source": source}, headers=HTMX)
        self.assertEqual(answer.status_code, status, answer.text[:400])
        return answer.text

    def sheet(self, job_id):
        return self.store.job(job_id).sheet

    def test_items_come_with_all_that_was_decided_of_them(self):
        host = self.named("Willow brackets", box(30, 20, 4))
        other = self.named("Alder tee", tee(), due="2026-12-04", supports={}, material={"material": "PETG"})
        self.change(other, "copies", open=9, count="2")
        self.change(other, "footing", footing="brim")
        page = self.bring(host, other)
        self.assertIn("Alder tee.stl", page)
        self.assertIn("of Alder tee, due 2026-12-04", page)
        sheet = self.sheet(host)
        first, came = sheet.items
        self.assertEqual((came.of.job, came.of.name, str(came.of.due)), (other, "Alder tee", "2026-12-04"))
        was = self.sheet(other).items[0]
        for name in ("part", "stance", "supports", "footing", "marks", "hand"):
            self.assertEqual(getattr(came, name), getattr(was, name))
        self.assertNotEqual(came.id, first.id)
        # In its own material, so on a plate of its own; as often as there.
        self.assertEqual([sheet.of_plate(k).material for k in (0, 1)], ["PLA", "PETG"])
        self.assertEqual([len(plate.instances) for plate in sheet.plates], [1, 2])
        self.settle(host)
        answer = self.client.get(f"/jobs/{host}/print.gcode?plate=2")
        self.assertEqual(answer.status_code, 200, answer.text[:300])
        self.assertIn("; material: PETG", answer.text)
        # The other job says where it is printed, until it is printed by itself again.
        told = self.section(other, 9).text("goes-with")
        self.assertIn("Willow brackets", told)
        self.assertIn("on the plates of another job", self.client.get("/cards?q=Alder tee").text)
        self.assertNotIn("not on them any more", told)
        # One step back, and it is gone from the plates; the other job says so.
        self.client.post(f"/jobs/{host}/undo?open=9", headers=HTMX)
        self.assertEqual(len(self.sheet(host).items), 1)
        self.assertIn("is not on them any more", self.section(other, 9).text("goes-with"))
        self.client.post(f"/jobs/{other}/apart?open=9", headers=HTMX)
        self.assertEqual(self.sheet(other).order.goes_with, "")

    def test_how_far_a_job_is_follows_the_plates_that_it_is_on(self):
        host = self.named("Host", box(30, 20, 4))
        other = self.named("Guest", box(10, 10, 4))
        self.assertEqual(self.store.standing_of(other), Standing.CAME_IN)
        # On plates of its own it would take two.
        self.change(other, "copies", open=9, count="2")
        self.change(other, "place", open=9, copy_number="2", plate="2")
        self.assertEqual(len(self.sheet(other).plates), 2)
        self.bring(host, other)
        self.assertEqual(len(self.sheet(host).plates), 1)

        def queue():
            return self.store.queue(
                NewPrint(
                    host, "Host", self.store.job(host).step_id, 1, (("a", 1),), {"layer_mm": 0.2}, "Nowhere",
                    "Sedge 300", "PLA", "a.gcode", 10, 100.0, 1.0, b"x",
                )
            )  # fmt: skip

        one = queue()
        self.assertEqual([self.store.standing_of(name) for name in (host, other)], [Standing.WAITS] * 2)
        self.store.take_next("Nowhere")
        self.store.has_begun(one.id)
        self.assertEqual(self.store.standing_of(other), Standing.PRINTING)
        self.store.has_ended(one.id, Stage.DONE, layer=10)
        self.assertEqual(self.store.standing_of(other), Standing.PRINTED)
        found = self.store.yard_page("open", words="Guest", standing_is="printed")
        # The other is found by what was brought to it, too.
        self.assertEqual({name for name, _ in found.ids}, {host, other})
        self.client.post(f"/jobs/{other}/apart?open=9", headers=HTMX)
        self.assertEqual(self.store.standing_of(other), Standing.IN_WORK)
        self.assertEqual([name for name, _ in self.store.yard_page("open", words="Guest Host").ids], [host])

    def test_what_is_due_first_goes_on_the_first_plates(self):
        host = self.named("Late", box(200, 200, 4), due="2026-12-20")
        self.change(host, "copies", open=9, count="2")
        soon = self.named("Soon", box(140, 140, 4), due="2026-12-02")
        never = self.named("Never", box(250, 30, 4))
        for source in (soon, never):
            self.bring(host, source)

        def plates(by_due):
            self.change(host, "plating", open=9, gap_mm="3", by_due=by_due)
            self.client.post(f"/jobs/{host}/plates/arrange?open=9", headers=HTMX)
            sheet = self.sheet(host)
            return [
                [sheet.item(one.item).part.file_name.split(".")[0] for one in plate.instances]
                for plate in sheet.plates
            ]

        # The largest first leaves what is due soon to a later plate.
        self.assertNotIn("Soon", plates("false")[0])
        found = plates("true")
        self.assertIn("Soon", found[0])
        self.assertEqual(sorted(name for plate in found for name in plate), ["Late", "Late", "Never", "Soon"])

    def test_what_it_was_prepared_for_and_what_changed_since_is_told(self):
        host = self.named("Coarse", box(30, 20, 4), layer={"layer_mm": "0.3"}, process={"walls": "2"})
        fine = self.named("Fine", box(10, 10, 4), layer={"layer_mm": "0.1"}, process={"walls": "4"})
        self.bring(host, fine)
        self.settle(host)
        told = self.client.get(f"/jobs/{host}/sheet?open=9").text
        self.assertIn("In “Fine” it has layers of 0.1 mm, 4 walls; on this plate 0.3 mm, 2.", told)
        self.assertNotIn("was changed since", told)
        # What changes nothing that is printed is no change.
        self.change(fine, "notes", notes="mind the corners")
        self.assertNotIn("was changed since", self.client.get(f"/jobs/{host}/sheet?open=9").text)
        self.change(fine, "copies", open=9, count="2")
        self.assertIn("“Fine” was changed since", self.client.get(f"/jobs/{host}/sheet?open=9").text)

    def test_what_cannot_come_is_refused_and_nothing_is_noted(self):
        host = self.named("Host", box(30, 20, 4))
        resin = self.named("Figure", box(10, 10, 10), printer={"printer": "Tarn 9"})
        guest = self.named("Guest", box(10, 10, 4))
        self.assertIn("is for resin", self.bring(host, resin, 422))
        self.assertEqual(self.sheet(resin).order.goes_with, "")
        self.assertIn("That is this job", self.bring(host, host, 422))
        self.bring(host, "nothing", 404)
        self.bring(host, guest)
        self.assertIn("holds items of this job", self.bring(guest, host, 422))
        offered = self.client.get(f"/jobs/{host}/others", headers=HTMX).text
        # Neither itself, nor one of another technology, nor one that is here already.
        for name in (host, resin, guest):
            self.assertNotIn(f'value="{name}"', offered)
        self.assertIn(f'value="{host}"', self.client.get(f"/jobs/{guest}/others", headers=HTMX).text)


if __name__ == "__main__":
    unittest.main()
