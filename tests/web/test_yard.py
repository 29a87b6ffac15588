"""The Yard: jobs put away, brought back, duplicated; a hundred of them; files of every kind."""

import datetime as dt
import re
import tempfile
import threading
import time
import unittest.mock
from concurrent.futures import Future
from pathlib import Path

from tests.core.test_formats import theirs
from tests.support import box, stl, tee
from tests.web.test_app import AppCase, Page, flat
from upright_heron.core.formats.read import SUFFIXES
from upright_heron.sheet.changes import Rename
from upright_heron.sheet.shop import Habits
from upright_heron.store.prints import NewPrint, Stage
from upright_heron.store.store import NotFound, Store
from upright_heron.work.intake import new_sheet, take_in


class YardTest(AppCase):
    alone = True

    def names(self, show="open"):
        return [line.split("<")[0] for line in self.client.get(f"/?show={show}").text.split("<strong>")[1:]]

    def post(self, path):
        answer = self.client.post(path, headers={"HX-Request": "true"})
        self.assertEqual(answer.status_code, 200, answer.text[:200])
        return answer.text

    def test_archive_delete_and_the_way_back(self):
        job_id = self.job(stl(tee()), "anvil.stl")
        self.assertIn("Anvil", self.names())
        answer = self.post(f"/jobs/{job_id}/put/archived")
        self.assertIn("is archived", answer)
        self.assertIn(f"/jobs/{job_id}/put/open", answer)
        self.assertNotIn("Anvil", self.names())
        self.assertIn("Anvil", self.names("archived"))
        self.post(f"/jobs/{job_id}/put/deleted?show=archived")
        self.assertIn("Anvil", self.names("deleted"))
        # It is deleted from the Yard, and still whole.
        self.assertEqual(self.client.get(f"/jobs/{job_id}").status_code, 200)
        self.post(f"/jobs/{job_id}/put/open?show=deleted")
        self.assertIn("Anvil", self.names())
        self.assertEqual(self.client.post(f"/jobs/{job_id}/put/burnt").status_code, 422)
        self.assertEqual(self.client.post("/jobs/nowhere/put/open").status_code, 404)

    def test_a_copy_leaves_the_original_alone(self):
        job_id = self.job(stl(tee()), "bracket.stl")
        self.change(job_id, "notes", notes="left-hand thread")
        self.post(f"/jobs/{job_id}/duplicate")
        copy = next(j for j in self.client.get("/api/jobs").json() if j["sheet"]["name"] == "Copy of Bracket")
        self.assertEqual((copy["step"], copy["sheet"]["notes"]), (1, "left-hand thread"))
        self.change(copy["id"], "layer", layer_mm="0.3")
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["layer_mm"], 0.2)

    def test_the_page_is_sound_html_and_takes_all_formats(self):
        page = Page(self.client.get("/").text)
        self.assertEqual(page.ids["files"]["accept"], ",".join((*SUFFIXES, ".heron")))
        self.assertIn("search", page.ids)
        for name, data in (
            ("cup.obj", theirs(box(10, 20, 30)).export(file_type="obj").encode()),
            ("cup.ply", theirs(box(10, 20, 30)).export(file_type="ply")),
        ):
            answer = self.upload(data, name)
            self.assertEqual(answer.status_code, 201, answer.text)
            sheet = flat(answer.json()["sheet"])
            self.assertEqual((sheet["name"], sheet["part"]["format"]), ("Cup", name[-3:].upper()))
            self.assertEqual(sheet["part"]["size_mm"], [10, 20, 30])
        refused = self.client.post(
            "/api/jobs", params={"name": "a.step", "tolerance": "wide"}, content=b"ISO-10303-21;"
        )
        self.refused(refused, 422, "not a length")

    def cards(self, query=""):
        """Titles of the cards, and how far each job is."""
        page = self.client.get(f"/cards?{query}").text
        return re.findall(r'data-title="([^"]*)" data-standing="([^"]*)"', page)

    def test_jobs_come_a_page_at_a_time_and_none_is_left_out(self):
        job_id = self.job(stl(tee()), "many.stl")
        self.settle(job_id)
        store = self.app.state.services.store
        for _ in range(100):
            store.duplicate(job_id)
        whole = store.yard_page("open").count
        self.assertGreaterEqual(whole, 101)
        seen, first = [], 0
        while True:
            page = self.client.get(f"/cards?first={first}&sort=title").text
            seen += re.findall(r'href="/jobs/(\w+)"', page.replace("http://localhost", ""))
            following = re.search(r"first=(\d+)", page)
            if following is None:
                break
            first = int(following[1])
        self.assertEqual((len(seen), len(set(seen))), (whole, whole))

    def test_what_is_looked_for_is_found_wherever_it_is_written(self):
        ids = {name: self.job(stl(tee()), f"{name}.stl") for name in ("stork", "crane", "ibis")}
        self.change(ids["stork"], "order", folder="Marsh", customer="Böhm & sons", due="2027-01-05")
        self.change(ids["crane"], "order", folder="Marsh", due="2026-12-20")
        self.change(ids["ibis"], "notes", notes="100% left_hand")
        self.change(ids["ibis"], "printer", printer="Reed 190")

        def found(query):
            return [name for name, _ in self.cards(query) if name in ids]

        for words, names in (
            ("böhm", ["stork"]), ("BÖHM", ["stork"]), ("sons stork", ["stork"]), ("crane stork", []),
            ("reed", ["ibis"]), ("100%25", ["ibis"]), ("left_hand", ["ibis"]), ("left-hand", []), ("STL ib", ["ibis"]),
        ):  # fmt: skip
            self.assertEqual(found(f"q={words}"), names, words)
        # By the printer that one of its plates goes to, too.
        self.change(ids["crane"], "copies", count="2")
        self.change(ids["crane"], "place", copy_number="2", plate="2")
        self.change(ids["crane"], "print-on", plate="2", printer="Reed 190")
        self.assertEqual(found("q=reed&sort=title"), ["crane", "ibis"])
        self.assertEqual(found("folder=Marsh&sort=due"), ["crane", "stork"])
        self.assertEqual(found("folder=Marsh&sort=title"), ["crane", "stork"])
        self.assertEqual(found("folder=Elsewhere"), [])
        # Undone, it is found by what it was before.
        self.client.post(f"/jobs/{ids['stork']}/undo", headers={"HX-Request": "true"})
        self.assertEqual(found("q=böhm"), [])
        self.assertEqual(found("folder=Marsh"), ["crane"])

    def test_a_card_comes_by_itself_once_it_is_made(self):
        store = self.app.state.services.store
        part = take_in(stl(box(11, 12, 13)), "dunlin.stl", store)
        job_id = store.create_job(new_sheet(part, "Dunlin"), "Take in").id
        page = self.client.get("/cards?q=dunlin&sort=title").text
        asked = re.search(r'hx-get="([^"]*)" hx-trigger="every 3s"', page)
        self.assertIn("being made", page)
        self.assertEqual(self.client.get("/jobs/nowhere/card").status_code, 404)
        until = time.monotonic() + 60
        while (answer := self.client.get(asked[1].replace("&amp;", "&"))).status_code == 204:
            self.assertLess(time.monotonic(), until)
            time.sleep(0.05)
        self.assertNotIn("every 3s", answer.text)
        self.assertRegex(answer.text, r"\d+ min.*<em>rough</em>")
        self.assertIn('data-title="dunlin" data-standing="came in"', answer.text)
        # What is pressed on it brings back what was looked for.
        self.assertIn("q=dunlin&amp;", answer.text)
        # Where results are made only when somebody asks, it says so and asks for nothing.
        store.shelve(Habits(at_once=False))
        self.addCleanup(store.unshelve, Habits, "shop")
        self.change(job_id, "layer", layer_mm="0.3")
        page = self.client.get("/cards?q=dunlin").text
        self.assertIn("not made", page)
        self.assertNotIn("every 3s", page)

    def test_a_card_says_how_far_its_job_is(self):
        job_id = self.job(stl(tee()), "plover.stl")
        store = self.app.state.services.store

        def far():
            (found,) = [how for name, how in self.cards("q=plover") if name == "plover"]
            self.assertIn(
                "plover", [name for name, _ in self.cards(f"q=plover&far={found.replace(' ', '+')}")]
            )
            return found

        self.assertEqual(far(), "came in")
        self.change(job_id, "copies", open=9, count="2")
        self.change(job_id, "place", open=9, copy_number="2", plate="2")
        self.assertEqual(far(), "in work")
        sent = []
        for plate in (1, 2):
            job = store.job(job_id)
            new = NewPrint(job.id, job.sheet.name, job.step_id, plate, (("plover", 1),), {}, "Left", "Sedge 300",
                           "PLA", "a.gcode", 10, 60.0, 1.0, b"G28")  # fmt: skip
            sent.append(store.queue(new).id)
        self.assertEqual(far(), "in the queue")
        store.take_next("Left")
        self.assertEqual(far(), "printing")
        store.has_ended(sent[0], Stage.DONE)
        self.assertEqual(far(), "in the queue")
        store.take_next("Left")
        store.has_ended(sent[1], Stage.DONE)
        self.assertEqual(far(), "printed")
        # Somebody finds one of them bad: it is not printed yet.
        store.judge(sent[1], "failed", "warped", "", "Wren")
        self.assertEqual(far(), "in work")
        store.judge(sent[1], "good", "", "", "Wren")
        answer = self.post(f"/jobs/{job_id}/hand-over")
        self.assertIn("is handed over", answer)
        self.assertEqual(far(), "handed over")
        self.post(f"/jobs/{job_id}/hand-over?back=true")
        self.assertEqual(far(), "printed")

    def test_what_is_late_says_so_and_a_copy_is_not_due(self):
        job_id = self.job(stl(tee()), "heron mark.stl")
        self.change(job_id, "order", folder="Gifts", due="2020-01-05")
        card = self.client.get("/cards?q=heron+mark").text
        self.assertIn("late, was due", card)
        self.post(f"/jobs/{job_id}/duplicate")
        copy = next(
            j for j in self.client.get("/api/jobs").json() if j["sheet"]["name"] == "Copy of Heron mark"
        )
        order = copy["sheet"]["order"]
        self.assertEqual((order["folder"], order["due"]), ("Gifts", None))
        self.post(f"/jobs/{job_id}/hand-over")
        self.assertNotIn("late, was due", self.client.get("/cards?q=heron+mark").text)

    def test_files_come_into_a_folder(self):
        made = self.client.post("/api/jobs?name=wader.stl&folder=Winter", content=stl(tee()))
        self.assertEqual((made.status_code, made.json()["sheet"]["order"]["folder"]), (201, "Winter"))
        self.assertIn("<option >Winter</option>", self.client.get("/").text)


class PurgeTest(unittest.TestCase):
    def test_deleted_jobs_go_after_a_while_and_others_never(self):
        with tempfile.TemporaryDirectory() as folder:
            store = Store(Path(folder) / "heron.sqlite3")
            part = take_in(stl(tee()), "a.stl", store)
            ids = [store.create_job(new_sheet(part, name), "Take in").id for name in ("a", "b", "c")]
            store.apply(ids[1], Rename(name="b two"))
            store.put(ids[1], "deleted")
            store.put(ids[2], "archived")
            self.assertEqual(store.purge(), 0)
            self.assertEqual(store.purge(dt.timedelta(seconds=-1)), 1)
            with self.assertRaises(NotFound):
                store.job(ids[1])
            self.assertEqual([j.id for j in store.jobs()], [ids[0]])
            self.assertEqual([j.id for j in store.jobs("archived")], [ids[2]])
            with self.assertRaises(ValueError):
                store.put(ids[0], "burnt")
            store.close()


class PicturesTest(AppCase):
    def test_pages_do_not_wait_for_pictures(self):
        work = self.client.app.state.services.work
        ids = [self.job(stl(box(10 + k / 7, 10, 3)), f"starve {k}.stl") for k in range(3)]
        ended = []
        with unittest.mock.patch.object(work, "make", lambda *_, **__: ended.append(Future()) or ended[-1]):
            # Far more are asked for than there are threads that answer.
            asked = [
                threading.Thread(target=self.client.get, args=(f"/jobs/{ids[k % 3]}/picture.png?n={k}",))
                for k in range(90)
            ]
            for one in asked:
                one.start()
            end = time.monotonic() + 30
            while len(ended) < len(asked):
                self.assertLess(time.monotonic(), end)
                time.sleep(0.01)
            for path in ("/", "/floor", f"/jobs/{ids[0]}", f"/api/jobs/{ids[1]}"):
                self.assertEqual(self.client.get(path).status_code, 200)
            self.assertTrue(all(one.is_alive() for one in asked))
            for one in ended:
                one.set_result(None)
            for one in asked:
                one.join()

    def test_a_card_has_a_picture_once_it_is_made(self):
        work = self.client.app.state.services.work
        with unittest.mock.patch.object(work, "want", lambda *_, **__: None):
            job_id = self.job(stl(box(11, 17, 3.3)), "kestrel.stl")
            page = self.client.get("/?q=kestrel").text
            self.assertIn("picture being made", page)
            # Nobody asks for what is not there: a browser holds a connection for each.
            self.assertNotIn(f"{job_id}/picture.png", page)
            self.assertEqual(self.client.get(f"/jobs/{job_id}/card").status_code, 204)
        self.client.get("/?q=kestrel")
        end = time.monotonic() + 60
        while (card := self.client.get(f"/jobs/{job_id}/card")).status_code == 204:
            self.assertLess(time.monotonic(), end)
            time.sleep(0.05)
        self.assertIn(f"{job_id}/picture.png", card.text)
        self.assertNotIn("hx-trigger", card.text.split("</a>")[0])


class CardsTest(AppCase):
    alone = True

    def test_cards_are_made_without_opening_the_job(self):
        job_id = self.job(stl(tee()), "card.stl")
        until = time.monotonic() + 60
        while not re.search(r"\d min · [\d.]+ g", text := self.client.get("/").text):
            self.assertLess(time.monotonic(), until, text)
            time.sleep(0.1)
        self.assertIn(f"/jobs/{job_id}", text)


if __name__ == "__main__":
    unittest.main()
