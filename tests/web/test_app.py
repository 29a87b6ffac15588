"""The web side through its ASGI application: pages, changes, hand-off, bad input, one error envelope."""

import atexit
import json
import os
import re
import tempfile
import time
import unittest
from dataclasses import replace
from html.parser import HTMLParser
from pathlib import Path
from unittest import mock

import numpy as np
from fastapi.testclient import TestClient

from tests.core.test_threemf import read
from tests.support import ascii_stl, box, comb, open_box, raw_stl, stalactites, stl, tee
from upright_heron.core.errors import BadValue
from upright_heron.core.health.defects import examine
from upright_heron.demo.jobs import NAMES, make_demo_jobs
from upright_heron.demo.shapes import SHAPES
from upright_heron.settings import Settings
from upright_heron.store.store import Store
from upright_heron.web.app import create_app
from upright_heron.web.guard import may_listen

# What browsers call the server by, and what its own pages say they are of.
OWN = "http://localhost"


class Page(HTMLParser):
    """Elements of a page by id, with their attributes and text; and the tags left open."""

    VOID = {"meta", "link", "img", "input", "br", "path", "option"}

    def __init__(self, text):
        super().__init__()
        self.ids, self.links, self._open = {}, [], []
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        attributes = dict(attrs)
        entry = {"tag": tag, "text": "", **attributes}
        if "id" in attributes:
            if attributes["id"] in self.ids:
                raise AssertionError(f"two elements have the id {attributes['id']}")
            self.ids[attributes["id"]] = entry
        if tag == "a":
            self.links.append(attributes.get("href", ""))
        if tag not in self.VOID:
            self._open.append(entry)

    def handle_endtag(self, tag):
        if tag not in self.VOID and self._open:
            self._open.pop()

    def handle_data(self, data):
        for entry in self._open:
            entry["text"] += data

    def text(self, name):
        return " ".join(self.ids[name]["text"].split())


def flat(sheet, at=0):
    """What is decided for an item, and for its job."""
    return {**sheet, **sheet["items"][at]}


class AppCase(unittest.TestCase):
    """One application for all classes, or one for a class that is ``alone``; jobs are made by uploading."""

    upload_mb = 20
    # With a store of its own: the class counts what is in it, or waits for work that others may have done.
    alone = False
    shared = None

    @classmethod
    def setUpClass(cls):
        if cls.alone:
            cls.folder, cls.app, cls.client = cls.started(cls.upload_mb)
            cls.addClassCleanup(cls.ended, cls.folder, cls.client)
            return
        if AppCase.shared is None:
            AppCase.shared = cls.started(AppCase.upload_mb)
            folder, _, client = AppCase.shared
            atexit.register(cls.ended, folder, client)
        cls.folder, cls.app, cls.client = AppCase.shared

    @staticmethod
    def started(upload_mb):
        folder = tempfile.TemporaryDirectory()
        settings = Settings(database=Path(folder.name) / "heron.sqlite3", workers=1, upload_mb=upload_mb)
        app = create_app(settings)
        client = TestClient(app, OWN, raise_server_exceptions=False, headers={"Origin": OWN})
        client.__enter__()
        return folder, app, client

    @staticmethod
    def ended(folder, client):
        client.__exit__(None, None, None)
        folder.cleanup()

    def upload(self, data, name="part.stl", printer="Sedge 300", material="PLA"):
        asked = {"name": name, "printer": printer, "material": material}
        return self.client.post("/api/jobs", params=asked, content=data)

    def job(self, data, name="part.stl"):
        answer = self.upload(data, name)
        self.assertEqual(answer.status_code, 201, answer.text)
        return answer.json()["id"]

    def settle(self, job_id):
        until = time.monotonic() + 90
        while (task := self.client.get(f"/api/jobs/{job_id}/task").json()["task"]) is not None:
            self.assertIn(task["state"], ("running", "done"), task)
            self.assertLess(time.monotonic(), until)
            time.sleep(0.05)

    def change(self, job_id, kind, status=200, open=1, **fields):
        answer = self.client.post(
            f"/jobs/{job_id}/changes/{kind}?open={open}", data=fields, headers={"HX-Request": "true"}
        )
        self.assertEqual(answer.status_code, status, answer.text)
        return answer

    def section(self, job_id, number):
        return Page(self.client.get(f"/jobs/{job_id}/sheet?open={number}").text)

    def refused(self, answer, status, *words):
        self.assertEqual(answer.status_code, status, answer.text)
        error = answer.json()["error"]
        self.assertEqual(set(error), {"message", "advice"})
        for word in words:
            self.assertIn(word, error["message"])
        return error


class UploadTest(AppCase):
    alone = True
    upload_mb = 1

    def test_binary_and_ascii(self):
        for name, data in (("clamp_ring.stl", stl(tee())), ("text.STL", ascii_stl(tee()))):
            with self.subTest(name):
                answer = self.upload(data, name).json()
                part = answer["sheet"]["items"][0]["part"]
                self.assertEqual((part["facets"], part["closed"]), (28, True))
                self.assertAlmostEqual(part["volume_mm3"], 4000, places=3)
        self.assertEqual(self.upload(stl(tee()), "clamp_ring.stl").json()["sheet"]["name"], "Clamp ring")

    def test_every_bad_file_is_refused_with_words_and_nothing_changes(self):
        nan = np.random.default_rng(0).random((4, 3, 3))
        nan[2, 1, 1] = np.nan
        infinite = nan.copy()
        infinite[2, 1, 1] = np.inf
        cases = {
            "empty": (b"", "empty"),
            "letter.stl": (b"To whom it may concern. " * 30, "neither STL"),
            "truncated": (stl(tee())[:-120], "ends early"),
            "lying": (raw_stl(np.random.default_rng(0).random((9, 3, 3)), 7), "facet count is wrong"),
            "nan": (raw_stl(nan), "not numbers"),
            "infinite": (raw_stl(infinite), "not numbers"),
            "point": (raw_stl(np.ones((8, 3, 3))), "no size"),
            "random": (np.random.default_rng(5).bytes(5000), ""),
        }
        before = len(self.client.get("/api/jobs").json())
        for name, (data, words) in cases.items():
            with self.subTest(name):
                self.refused(self.upload(data, name), 422, words)
        self.assertEqual(len(self.client.get("/api/jobs").json()), before)
        self.assertEqual(self.client.get("/").status_code, 200)

    def test_too_large_is_refused_by_its_declared_length(self):
        self.refused(self.upload(b"x" * 1_200_000), 413, "1 MB")

    def test_too_large_is_refused_while_it_streams_in(self):
        sent = []

        def endless():
            for _ in range(100):
                sent.append(1)
                yield b"x" * 100_000

        self.refused(self.client.post("/api/jobs", content=endless()), 413, "1 MB")

    def test_ten_files_at_once(self):
        from concurrent.futures import ThreadPoolExecutor

        files = [(stl(box(3 + k, 4, 5)), f"b{k}.stl") for k in range(8)] + [(b"", "x.stl"), (b"no", "y.stl")]
        with ThreadPoolExecutor(10) as pool:
            answers = list(pool.map(lambda f: self.upload(*f), files))
        self.assertEqual([a.status_code for a in answers], [201] * 8 + [422] * 2)

    def test_hostile_names(self):
        made = self.upload(stl(box(1, 1, 1)), "../../<script>alert(1)</script>\x00.stl").json()
        page = self.client.get(f"/jobs/{made['id']}").text
        self.assertNotIn("<script>alert", page)

    def test_open_part_is_taken_in_and_marked(self):
        job_id = self.job(open_box(), "tray.stl")
        self.settle(job_id)
        page = self.section(job_id, 1)
        self.assertIn("4 open edges", page.text("part-closed"))
        self.assertIn("guess", page.text("part-volume"))
        self.assertEqual(self.section(job_id, 8).text("layer-count"), "100")
        self.assertIn("open", self.client.get(f"/jobs/{job_id}").text)
        # Filament columns need layers only; stilts and cuts need a closed surface and say so.
        self.change(job_id, "supports")
        self.settle(job_id)
        self.change(job_id, "cut", margin_mm="3")
        until = time.monotonic() + 60
        while (task := self.client.get(f"/api/jobs/{job_id}/task").json()["task"])["state"] == "running":
            self.assertLess(time.monotonic(), until)
            time.sleep(0.05)
        self.assertEqual(task["state"], "failed")
        self.assertIn("closed", task["message"])
        failed = self.section(job_id, 3)
        self.assertIn("Try again", failed.text("again"))
        self.change(job_id, "join")
        self.settle(job_id)


class JobTest(AppCase):
    def test_all_sections_of_a_job_from_file_to_hand_off(self):
        job_id = self.job(stl(comb()), "comb.stl")
        self.settle(job_id)
        whole = Page(self.client.get(f"/jobs/{job_id}").text)
        for number in range(1, 10):
            self.assertIn(f"section-{number}", whole.ids)
        state = json.loads(whole.ids["state"]["text"])
        self.assertEqual(len(state["islands"]), 2)
        self.assertIn("11.8 cm²", self.section(job_id, 5).text("overhang-area"))
        self.change(job_id, "supports", open=6, gap_mm="0.2", clearance_mm="0.45")
        self.change(job_id, "footing", open=7, footing="brim", lines="5")
        self.settle(job_id)
        self.assertEqual(self.section(job_id, 6).text("support-count"), "3")
        self.assertIn("m²", self.section(job_id, 7).text("footing-area"))
        self.assertIn("min", self.section(job_id, 8).text("rough-time"))
        data = self.client.get(f"/jobs/{job_id}/handoff.3mf")
        self.assertIn(
            "comb-0.2mm-3walls-15pc-PLA.3mf",
            data.headers["content-disposition"].lower().replace("pla", "PLA"),
        )
        _, objects = read(data.content)
        self.assertEqual([o.GetName().split()[0] for o in objects], ["part", "support", "footing"])
        for what in ("part", "support", "footing"):
            body = self.client.get(f"/jobs/{job_id}/{what}.stl").content
            self.assertEqual(len(body), 84 + 50 * int.from_bytes(body[80:84], "little"))
        traveller = self.client.get(f"/jobs/{job_id}/traveller").text
        for words in ("Comb", "Sedge 300", "brim, 5 lines", "Islands"):
            self.assertIn(words, traveller)
        picture = self.client.get(f"/jobs/{job_id}/picture.png").content
        self.assertTrue(picture.startswith(b"\x89PNG"))

    def test_blocks(self):
        job_id = self.job(stl(comb()))
        self.change(job_id, "supports")
        self.change(job_id, "footing", footing="raft")
        self.settle(job_id)
        state = json.loads(Page(self.client.get(f"/jobs/{job_id}").text).ids["state"]["text"])
        mesh = self.client.get(f"/api/blocks/meshes/{state['mesh']}").content
        self.assertEqual(mesh[:4], b"UHM1")
        v, f = np.frombuffer(mesh, "<u4", 2, 4)
        self.assertEqual(len(mesh), 12 + 12 * v + 12 * f)
        layers = self.client.get(f"/api/blocks/layers/{state['layers']}").content
        count, rings, points = (int(n) for n in np.frombuffer(layers, "<u4", 3, 4))
        self.assertEqual((layers[:4], count), (b"UHL1", 125))
        self.assertEqual(len(layers), 24 + 4 * count + 4 * (count + 1) + 4 * (rings + 1) + 8 * points)
        np.testing.assert_allclose(np.frombuffer(layers, "<f4", count, 24)[-1], 1200)
        for path in (
            f"supports/{state['supports']}",
            f"supports/{state['supports']}/layers",
            f"footing/{state['footing']}",
            f"footing/{state['footing']}/layers",
        ):
            answer = self.client.get(f"/api/blocks/{path}")
            self.assertEqual(answer.status_code, 200)
            self.assertIn("immutable", answer.headers["cache-control"])
        self.assertEqual(
            len(self.client.get(f"/api/blocks/islands/{keys_of(self.app, job_id)['findings']}").json()), 2
        )
        self.refused(self.client.get("/api/blocks/layers/unknown"), 404, "no longer")

    def test_undo_redo_and_what_is_kept(self):
        job_id = self.job(stl(tee()))
        self.change(job_id, "turn", x_deg="90")
        self.change(job_id, "limit", limit_deg="30")
        answer = self.client.post(f"/jobs/{job_id}/undo?open=5")
        self.assertIn("step 2", Page(answer.text).text("kept"))
        self.assertNotIn("disabled", Page(answer.text).ids["redo"])
        self.client.post(f"/jobs/{job_id}/redo?open=5")
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["limit_deg"], 30)

    def test_stance_board_marks_the_best_and_the_chosen(self):
        job_id = self.job(stl(tee()))
        self.settle(job_id)
        page = self.section(job_id, 4)
        self.assertIn("stance-A", page.ids)
        chosen = [
            k for k, v in page.ids.items() if k.startswith("stance-") and v.get("aria-pressed") == "true"
        ]
        self.assertEqual(len(chosen), 1)
        self.change(
            job_id, "stance", quaternion=page.ids["stance-A"]["data-quaternion"], name="on resting face A"
        )
        self.settle(job_id)
        after = self.section(job_id, 4)
        self.assertEqual(after.ids["stance-A"]["aria-pressed"], "true")
        self.assertIn("× 10 mm", after.text("stance-size"))

    def test_split_pull_and_open_a_piece(self):
        job_id = self.job(stl(box(500, 30, 20)), "beam.stl")
        self.settle(job_id)
        self.assertIn("200 mm too long along x", self.section(job_id, 3).text("fit"))
        self.change(job_id, "cut", margin_mm="3")
        self.settle(job_id)
        page = self.section(job_id, 3)
        self.assertEqual(page.text("piece-count"), "2 pieces")
        state = json.loads(page.ids["state"]["text"])
        self.assertEqual(self.client.get(f"/api/blocks/split/{state['split']}").content[:4], b"UHP2")
        _, objects = read(self.client.get(f"/jobs/{job_id}/pieces.3mf").content)
        self.assertEqual(len(objects), 2)
        answer = self.client.post(f"/jobs/{job_id}/pieces/2/open", headers={"HX-Request": "true"})
        piece = answer.headers["hx-redirect"].rsplit("/", 1)[1]
        self.assertEqual(
            self.client.get(f"/api/jobs/{piece}").json()["sheet"]["items"][0]["part"]["size_mm"][0], 250
        )
        self.assertEqual(self.client.post(f"/jobs/{job_id}/pieces/9/open").status_code, 422)

    def test_nothing_to_hand_off_is_said(self):
        job_id = self.job(stl(box(5, 5, 5)))
        answer = self.client.get(f"/jobs/{job_id}/support.stl")
        self.assertEqual(answer.status_code, 422)
        self.assertIn("no support", answer.text)
        self.assertEqual(self.client.get(f"/jobs/{job_id}/pieces.3mf").status_code, 422)

    def test_settings_do_not_leak_from_one_job_to_the_next(self):
        first = self.job(stl(tee()))
        self.change(first, "printer", printer="Mere 13")
        self.change(first, "limit", limit_deg="33")
        second = self.client.get(f"/api/jobs/{self.job(stl(tee()))}").json()["sheet"]
        self.assertEqual((second["printer"], second["limit_deg"]), ("Sedge 300", None))


def keys_of(app, job_id):
    from upright_heron.work.bind import keys_of as of_item

    return of_item(app.state.services.store.job(job_id).sheet.on())


class WorkTest(AppCase):
    alone = True

    def test_stopping_keeps_the_job_and_goes_on_when_asked(self):
        job_id = self.job(stl(stalactites()))
        self.change(job_id, "layer", layer_mm="0.01")
        self.client.post(f"/jobs/{job_id}/stop")
        task = self.client.get(f"/api/jobs/{job_id}/task").json()["task"]
        self.assertEqual(task["state"], "stopped")
        page = self.section(job_id, 8)
        self.assertEqual(page.text("again"), "Go on")
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["layer_mm"], 0.01)
        self.client.post(f"/jobs/{job_id}/again")
        self.settle(job_id)

    def test_newer_input_ends_older_work_and_old_figures_stay_marked(self):
        job_id = self.job(stl(stalactites()))
        self.settle(job_id)
        self.section(job_id, 8)
        self.change(job_id, "layer", layer_mm="0.02")
        answer = self.change(job_id, "layer", layer_mm="0.25", open=8)
        self.assertIn("updating…", answer.text)
        self.settle(job_id)
        self.assertEqual(self.section(job_id, 8).text("layer-count"), "120")


class ErrorTest(AppCase):
    alone = True
    upload_mb = 1

    def test_one_envelope(self):
        job_id = self.job(stl(box(5, 5, 5)))
        self.refused(self.client.get("/api/jobs/nobody"), 404, "no such job")
        self.refused(self.client.get("/api/nothing"), 404, "nothing at this address")
        self.refused(
            self.client.post(f"/api/jobs/{job_id}/changes", json={"kind": "layer", "layer_mm": -1}), 422
        )
        self.refused(self.client.post(f"/api/jobs/{job_id}/changes", json={"kind": "fly"}), 422)
        self.assertEqual(self.client.get("/jobs/nobody").status_code, 404)
        self.assertIn("Go to the Yard", self.client.get("/jobs/nobody").text)

    def test_a_refused_form_becomes_a_notice_and_the_job_stays(self):
        job_id = self.job(stl(box(5, 5, 5)))
        for kind, fields, words in (
            ("layer", {"layer_mm": "thick"}, "is not a length"),
            ("limit", {"limit_deg": "120"}, "limit"),
            ("lift", {"lift_mm": "9 ft"}, "lift"),
            ("footing", {"footing": "brim", "lines": "many"}, "lines"),
            ("stand", {"normal": "[0,0"}, "normal"),
        ):
            with self.subTest(kind):
                answer = self.change(job_id, kind, 422, **fields)
                self.assertEqual(answer.headers["hx-retarget"], "#notice")
                self.assertIn(words, answer.text)
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json()["step"], 1)

    def test_an_unforeseen_error_shows_a_reference_and_no_innards(self):
        services = self.app.state.services
        broken = services.store.jobs
        services.store.jobs = lambda: 1 / 0
        try:
            with self.assertLogs("upright_heron.web.app", "ERROR"):
                answer = self.client.get("/api/jobs")
        finally:
            services.store.jobs = broken
        self.refused(answer, 500, "reference")
        self.assertNotIn("division", answer.text)

    def test_other_sites_cannot_change_a_job(self):
        job_id = self.job(stl(box(5, 5, 5)))
        self.client.post(f"/jobs/{job_id}/changes/notes", data={"notes": "mine"})
        for headers in (
            {"Sec-Fetch-Site": "cross-site"},
            {"Sec-Fetch-Site": "same-site"},
            {"Origin": "https://evil.example"},
            {"Origin": "null"},
            # Another port of this machine is another site.
            {"Origin": "http://localhost:9999"},
            {"Origin": "", "Referer": "https://evil.example/localhost"},
            {"Origin": ""},
        ):
            with self.subTest(headers):
                answer = self.client.post(f"/jobs/{job_id}/undo", headers=headers)
                self.assertEqual(answer.status_code, 403)
                self.assertIn("default-src 'self'", answer.headers["content-security-policy"])
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["notes"], "mine")
        answer = self.client.post(
            f"/jobs/{job_id}/undo", headers={"Origin": "", "Referer": f"{OWN}/jobs/{job_id}"}
        )
        self.assertEqual(answer.status_code, 200)

    def test_no_other_name_is_answered(self):
        for host in ("evil.example", "localhost.evil.example", "127.0.0.1.nip.example", ""):
            with self.subTest(host):
                answer = self.client.get("/", headers={"Host": host})
                self.assertEqual(answer.status_code, 421)
                self.assertNotIn("evil", answer.text)
        self.assertEqual(self.client.get("/", headers={"Host": "[::1]:8420"}).status_code, 200)

    def test_links_do_not_carry_the_name_that_was_asked_for(self):
        job_id = self.job(stl(box(5, 5, 5)))
        text = self.client.get(f"/jobs/{job_id}", headers={"Host": "127.0.0.1:8420"}).text
        self.assertNotIn("127.0.0.1", text)
        self.assertIn(f'"/jobs/{job_id}/sheet', text)

    def test_a_failed_request_carries_the_same_headers(self):
        services = self.client.app.state.services
        broken = services.store.yard_page
        services.store.yard_page = lambda *_, **__: 1 / 0
        try:
            with self.assertLogs("upright_heron.web.app", "ERROR"):
                answer = self.client.get("/")
        finally:
            services.store.yard_page = broken
        self.assertEqual(answer.status_code, 500)
        usual = self.client.get("/machines").headers
        for name in ("x-content-type-options", "referrer-policy", "content-security-policy"):
            shown = [re.sub(r"nonce-[^']*", "", headers[name]) for headers in (answer.headers, usual)]
            self.assertEqual(shown[0], shown[1])

    def test_reached_from_other_machines_it_asks_for_names_and_a_token(self):
        with self.assertRaises(BadValue) as refused:
            may_listen(Settings(host="0.0.0.0"))
        self.assertIn("UPRIGHT_HERON_HOSTS and UPRIGHT_HERON_TOKEN", refused.exception.advice)
        with self.assertRaises(BadValue):
            may_listen(Settings(host="192.168.7.4", hosts=("heron.shop",)))
        may_listen(Settings(host="0.0.0.0", hosts=("heron.shop",), token="kingfisher by the weir"))
        with self.assertRaisesRegex(BadValue, "could be guessed"):
            may_listen(Settings(host="0.0.0.0", hosts=("heron.shop",), token="kingfisher"))
        may_listen(Settings(host="127.0.0.1"))

    def test_the_token_lets_in_once_and_is_kept(self):
        services = self.client.app.state.services
        self.client.app.state.services = replace(
            services,
            settings=services.settings.model_copy(
                update={"hosts": ("heron.shop",), "token": "kingfisher by the weir"}
            ),
        )
        try:
            other = TestClient(self.client.app, "http://heron.shop", headers={"Origin": "http://heron.shop"})
            self.assertEqual(other.get("/").status_code, 401)
            for wrong in ("sparrow", "eisvögel", "\U0001f426", ""):
                self.assertEqual(other.get("/", params={"token": wrong}).status_code, 401)
                bearer = {"Authorization": f"Bearer {wrong}".encode()}
                self.assertEqual(other.get("/", headers=bearer).status_code, 401)
            self.assertEqual(
                other.get("/", headers={"Authorization": "Bearer kingfisher by the weir"}).status_code, 200
            )
            entered = other.get("/?token=kingfisher by the weir", follow_redirects=False)
            self.assertEqual((entered.status_code, entered.headers["location"]), (303, "/"))
            self.assertIn("HttpOnly", entered.headers["set-cookie"])
            # Behind TLS the cookie goes nowhere else, and browsers ask for nothing else.
            self.assertNotIn("Secure", entered.headers["set-cookie"])
            self.assertNotIn("strict-transport-security", entered.headers)
            safe = TestClient(self.client.app, "https://heron.shop")
            over = safe.get("/?token=kingfisher by the weir", follow_redirects=False)
            self.assertIn("Secure", over.headers["set-cookie"])
            self.assertIn("max-age", over.headers["strict-transport-security"])
            self.assertNotIn("kingfisher", entered.headers["set-cookie"])
            self.assertEqual(other.get("/").status_code, 200)
        finally:
            self.client.app.state.services = services

    def test_large_forms_are_refused(self):
        job_id = self.job(stl(box(5, 5, 5)))
        answer = self.client.post(f"/jobs/{job_id}/changes/notes", data={"notes": "x" * 300_000})
        self.assertEqual(answer.status_code, 413)

    def test_pages_ask_nothing_of_other_hosts(self):
        answer = self.client.get("/")
        policy = answer.headers["content-security-policy"]
        self.assertIn("default-src 'self'", policy)
        self.assertNotIn("unsafe", policy)

    def test_scripts_of_a_page_have_the_nonce_that_its_policy_names(self):
        job_id = self.job(stl(box(5, 6, 5)))
        seen = set()
        for path in ("/", "/machines", f"/jobs/{job_id}", f"/jobs/{job_id}?open=9", "/jobs/nothing"):
            with self.subTest(path):
                answer = self.client.get(path)
                (allowed,) = re.findall(r"'nonce-([^']+)'", answer.headers["content-security-policy"])
                given = re.findall(r'<script[^>]* nonce="([^"]+)"', answer.text)
                self.assertEqual(set(given) - {allowed}, set())
                self.assertTrue(given or "/jobs/" not in path or path.endswith("nothing"), answer.text[:300])
                seen.add(allowed)
        # Each answer has its own.
        self.assertEqual(len(seen), 5)

    def test_the_api_is_documented(self):
        paths = self.client.get("/api/openapi.json").json()["paths"]
        self.assertIn("/api/jobs/{job_id}/changes", paths)


class DemoTest(unittest.TestCase):
    def test_demo_jobs_are_sound_and_made_once(self):
        with tempfile.TemporaryDirectory() as folder:
            store = Store(Path(folder) / "heron.sqlite3")
            first = make_demo_jobs(store)
            parts = {job.id: job.sheet.items[0].part for job in store.jobs()}
            for job_id, part in parts.items():
                health = examine(store.mesh(part.mesh))
                self.assertEqual((health.defects, health.verdict.sound, part.closed), (0, True, True), job_id)
            make_demo_jobs(store)
            self.assertEqual(len(store.jobs()), len(SHAPES))
            store.close()
        self.assertEqual(set(SHAPES), set(NAMES))
        self.assertEqual(len(first), 4)
        self.assertEqual(SHAPES["telescope-bracket"]().digest, SHAPES["telescope-bracket"]().digest)
        self.assertGreater(parts["demo-dragonfly"].size_mm[1], 850)


class SettingsTest(unittest.TestCase):
    def test_they_come_from_the_environment(self):
        with mock.patch.dict(os.environ, {"UPRIGHT_HERON_PORT": "9001", "UPRIGHT_HERON_UPLOAD_MB": "5"}):
            self.assertEqual((Settings().port, Settings().upload_mb), (9001, 5))
