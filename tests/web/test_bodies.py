"""Bodies of requests over real connections: declared, in chunks, crawling; and streams of events."""

import contextlib
import http.client
import io
import json
import os
import resource
import socket
import tempfile
import threading
import time
import unittest
from pathlib import Path

import uvicorn
from PIL import Image

from tests.support import box, stl
from upright_heron.settings import Settings
from upright_heron.store.prints import NewPrint, Stage
from upright_heron.web.app import create_app
from upright_heron.web.bodies import Bodies

MB = 1_000_000


class BodiesTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        settings = Settings(database=Path(folder.name) / "heron.sqlite3", workers=1, upload_mb=3)
        cls.app = create_app(settings)
        for one in cls.app.user_middleware:
            if one.cls is Bodies:
                one.kwargs["patience_s"] = 1.5
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            cls.port = free.getsockname()[1]
        config = uvicorn.Config(cls.app, port=cls.port, log_level="error", timeout_graceful_shutdown=1)
        cls.server = uvicorn.Server(config)
        thread = threading.Thread(target=cls.server.run)
        thread.start()
        cls.addClassCleanup(thread.join)
        cls.addClassCleanup(setattr, cls.server, "should_exit", True)
        until = time.monotonic() + 60
        while not cls.server.started:
            assert time.monotonic() < until
            time.sleep(0.05)
        cls.own = {"Origin": f"http://127.0.0.1:{cls.port}"}

    def ask(self, method, path, body=None, chunked=False, **headers):
        connection = http.client.HTTPConnection("127.0.0.1", self.port, timeout=120)
        self.addCleanup(connection.close)
        # The answer may be there before all was sent.
        with contextlib.suppress(BrokenPipeError, ConnectionResetError):
            connection.request(method, path, body, {**self.own, **headers}, encode_chunked=chunked)
        answer = connection.getresponse()
        return answer.status, answer.read().decode(errors="replace"), answer.headers

    def chunks(self, total, path, **headers):
        """Send a body in chunks, without saying how long it is."""
        sent = [0]
        # A form with a file begins like one, or is refused for that.
        form = b"--x\r\nContent-Disposition: form-data; name=file; filename=a.jpg\r\n\r\n"

        def stream():
            if "multipart" in headers.get("Content-Type", ""):
                yield form
            while sent[0] < total:
                sent[0] += 65_536
                yield b"1" * 65_536

        status, text, kept = self.ask(
            "POST", path, stream(), chunked=True, **{"Transfer-Encoding": "chunked", **headers}
        )
        return status, text, kept, sent[0]

    def job(self):
        status, text, _ = self.ask("POST", "/api/jobs?name=a.stl", stl(box(1, 2, 3)))
        self.assertEqual(status, 201, text)
        return json.loads(text)["id"]

    def test_bodies_in_chunks_are_counted_as_they_come(self):
        job_id = self.job()
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        form = {"Content-Type": "application/x-www-form-urlencoded"}
        parts = {"Content-Type": "multipart/form-data; boundary=x"}
        for path, headers, most in (
            (f"/api/jobs/{job_id}/changes", {"Content-Type": "application/json"}, 0.2),
            (f"/jobs/{job_id}/changes/notes", form, 0.2),
            (f"/jobs/{job_id}/marks/stroke?mark=prop&of=x", {}, 16),
            ("/record/nothing/photo", parts, 20.1),
            ("/spools", form, 0.2),
            ("/api/jobs?name=a.stl", {}, 3),
        ):
            with self.subTest(path):
                status, text, kept, sent = self.chunks(400 * MB, path, **headers)
                self.assertEqual(status, 413, text[:200])
                self.assertIn("too large" if most == 0.2 else f"larger than {most:.0f} MB", text)
                self.assertIn("Content-Security-Policy", kept)
                # It was given up soon behind what it may be, and what lies between in sockets.
                self.assertLess(sent, (most + 16) * MB)
        self.assertLess(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before, 150_000)
        # Nothing was changed, and the server goes on.
        self.assertEqual(self.app.state.services.store.job(job_id).step, 1)

    def test_what_declares_too_much_is_refused_before_it_comes(self):
        job_id = self.job()
        for path in (f"/api/jobs/{job_id}/changes", "/record/nothing/photo", f"/jobs/{job_id}/table"):
            with socket.create_connection(("127.0.0.1", self.port), 20) as wire:
                host = f"Host: 127.0.0.1:{self.port}\r\nOrigin: {self.own['Origin']}\r\n"
                wire.sendall(f"POST {path} HTTP/1.1\r\n{host}Content-Length: 900000000\r\n\r\n".encode())
                self.assertIn(b" 413 ", wire.recv(100))

    def test_photos_of_the_size_that_cameras_make_are_kept(self):
        store = self.app.state.services.store
        one = store.queue(
            NewPrint(
                "gone", "Perch", 1, 1, (), {"layer_mm": 0.2}, "X", "Sedge 300", "PLA", "a", 1, 1.0, 1.0, b"x"
            )
        )
        store.take_next("X")
        store.has_begun(one.id)
        store.has_ended(one.id, Stage.DONE)
        picture = io.BytesIO()
        Image.frombytes("RGB", (1500, 1200), os.urandom(1500 * 1200 * 3)).save(picture, "JPEG", quality=95)
        self.assertGreater(picture.tell(), 1.5 * MB)
        body = (
            b"--x\r\nContent-Disposition: form-data; name=file; filename=a.jpg\r\n\r\n"
            + picture.getvalue()
            + b"\r\n--x--\r\n"
        )
        status, text, _ = self.ask(
            "POST", f"/record/{one.id}/photo", body, **{"Content-Type": "multipart/form-data; boundary=x"}
        )
        self.assertEqual(status, 303, text[:300])
        self.assertEqual(store.with_photos(), {one.id})

    def test_uploads_that_crawl_are_given_up(self):
        with socket.create_connection(("127.0.0.1", self.port), 30) as wire:
            host = f"Host: 127.0.0.1:{self.port}\r\nOrigin: {self.own['Origin']}\r\n"
            head = f"POST /api/jobs?name=a.stl HTTP/1.1\r\n{host}Content-Length: 100000\r\n\r\n"
            wire.sendall(head.encode())
            begin, answer = time.monotonic(), b""
            wire.settimeout(0.2)
            while not answer and time.monotonic() - begin < 25:
                try:
                    wire.sendall(b"1")
                    answer = wire.recv(4000)
                except TimeoutError:
                    continue
            while b"}}" not in answer and (more := wire.recv(4000)):
                answer += more
            self.assertIn(b" 408 ", answer)
            self.assertIn(b"hardly comes", answer)
            self.assertLess(time.monotonic() - begin, 15)

    def test_streams_are_of_jobs_that_there_are_and_not_without_end(self):
        status, text, _ = self.ask("GET", "/jobs/nothing/events")
        self.assertEqual(status, 404)
        job_id = self.job()
        streams = self.app.state.services.streams
        held = []
        for _ in range(streams._most):
            connection = http.client.HTTPConnection("127.0.0.1", self.port, timeout=30)
            connection.request("GET", f"/jobs/{job_id}/events")
            self.assertEqual(connection.getresponse().status, 200)
            held.append(connection)
        status, text, _ = self.ask("GET", f"/jobs/{job_id}/events")
        self.assertEqual(status, 429, text[:200])
        self.assertEqual(self.ask("GET", "/floor/events")[0], 429)
        for one in held:
            one.close()
        # Left, their places are free again.
        until = time.monotonic() + 60
        while streams._open:
            self.assertLess(time.monotonic(), until)
            time.sleep(0.1)


if __name__ == "__main__":
    unittest.main()
