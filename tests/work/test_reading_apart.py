"""Files from strangers: whatever they hold, they are read or refused, soon, in little room, and nothing breaks."""

import os
import random
import re
import resource
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from tests.bombs import bombs
from tests.support import box, children, stl
from upright_heron.core.errors import BadFile, Cancelled, NotAMesh, TooLarge
from upright_heron.core.formats.read import read
from upright_heron.work import reading_apart
from upright_heron.work.reading_apart import Limits, read_apart

# In the short form each bomb gets little time: what needs more is refused for that.
SHORT = Limits(seconds=4.0, seconds_per_mb=0.05)


def readers():
    """Readers that this process began and that are still there."""
    return {
        pid for pid in children(os.getpid()) if b"read_child" in Path(f"/proc/{pid}/cmdline").read_bytes()
    }


class ReadingTest(unittest.TestCase):
    def test_what_is_read_apart_is_what_is_read_here(self):
        for name, data in (("a.stl", stl(box(1, 2, 3))), ("b.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")):
            apart, here = read_apart(data, name), read(data, name)
            self.assertEqual((apart.format, apart.unit, len(apart.bodies)), (here.format, here.unit, 1))
            np.testing.assert_array_equal(apart.bodies[0].corners, here.bodies[0].corners)
            self.assertEqual((apart.bodies[0].name, apart.bodies[0].support), (here.bodies[0].name, False))
        with self.assertRaises(NotAMesh) as here:
            read(b"letter to a friend", "a.stl")
        with self.assertRaises(NotAMesh) as apart:
            read_apart(b"letter to a friend", "a.stl")
        self.assertEqual(
            (str(apart.exception), apart.exception.advice), (str(here.exception), here.exception.advice)
        )

    def test_bombs_are_read_or_refused_soon_and_in_little_room(self):
        every = list(bombs())
        self.assertGreaterEqual(len({name for name, _, _ in every}), 130)
        self.assertEqual(len({name for name, _, _ in every}), len(every))
        # The short form: the trial takes all of them, over HTTP and in the shell.
        drawn = random.Random(os.environ.get("UPRIGHT_HERON_SEED", "heron")).sample(every, 12)
        took = []
        for name, file_name, data in drawn:
            with self.subTest(name):
                begin = time.monotonic()
                try:
                    found = read_apart(data, file_name, limits=SHORT)
                    self.assertGreater(sum(len(body.corners) for body in found.bodies), 0)
                except BadFile as error:
                    self.assertTrue(str(error) and error.advice)
                    self.assertNotIn("Traceback", str(error))
                took.append((time.monotonic() - begin, name))
        # Wall time, so with room for whatever runs beside.
        self.assertLess(max(took)[0], 40, max(took))
        self.assertLess(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss, 2_000_000)
        self.assertEqual(readers(), set())

    def test_what_a_few_lines_come_to_is_counted_before_it_is_made(self):
        # Whatever is refused for its size is refused by counting: in the time that it takes to read it.
        begin = time.process_time()
        for name, file_name, data in bombs():
            if re.search(r"doubled|items|tenfold|instances|circle|in itself|times the same|corners of", name):
                with self.subTest(name), self.assertRaises(BadFile):
                    read(data, file_name)
        self.assertLess(time.process_time() - begin, 30)

    def test_what_takes_too_long_or_too_much_is_named(self):
        crossing = next(data for name, _, data in bombs() if "crossing itself" in name)
        with self.assertRaisesRegex(TooLarge, "“wild.obj” takes more than 2 s"):
            read_apart(crossing, "wild.obj", limits=Limits(seconds=1, seconds_per_mb=0.1))
        large = stl(box(1, 1, 1))[:84] + bytes(50 * 12)
        self.assertEqual(len(read_apart(large, "a.stl").bodies), 1)
        many = 1_200_000
        text = b"\0" * 80 + many.to_bytes(4, "little") + bytes(50 * many)
        with self.assertRaisesRegex(TooLarge, "more memory than a file may take"):
            read_apart(text, "many.stl", limits=Limits(memory_mb=120))

    def test_a_reader_that_breaks_is_a_refusal_that_names_the_file(self):
        data = stl(box(1, 2, 3))
        real = reading_apart.subprocess.Popen
        for number, words in ((signal.SIGSEGV, "its reader broke down"), (signal.SIGKILL, "was given up")):

            def killed(*arguments, number=number, **more):
                child = real(*arguments, **more)
                child.send_signal(number)
                return child

            patched = mock.patch.object(reading_apart.subprocess, "Popen", killed)
            with patched, self.assertRaisesRegex(BadFile, f"“part.stl”.*{words}"):
                read_apart(data, "part.stl")

    def test_whoever_stops_the_reading_ends_its_process(self):
        crossing = next(data for name, _, data in bombs() if "crossing itself" in name)
        calls = []

        def progress(*told):
            calls.append(told)
            if len(calls) > 20:
                raise Cancelled()

        begin = time.monotonic()
        with self.assertRaises(Cancelled):
            read_apart(crossing, "wild.obj", progress=progress)
        self.assertLess(time.monotonic() - begin, 10)
        self.assertEqual(readers(), set())

    def test_a_reader_ends_with_the_process_that_began_it(self):
        script = (
            "from tests.bombs import bombs\n"
            "from upright_heron.work.reading_apart import read_apart\n"
            "data = next(d for n, _, d in bombs() if 'crossing itself' in n)\n"
            "print('begins', flush=True)\n"
            "read_apart(data, 'wild.obj')\n"
        )
        with subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE) as parent:
            parent.stdout.readline()
            until = time.monotonic() + 30
            while not (own := Path(f"/proc/{parent.pid}/task/{parent.pid}/children").read_text().split()):
                self.assertLess(time.monotonic(), until)
            # It has to have said that it wants to.
            while not re.search(r"read_child", Path(f"/proc/{own[0]}/cmdline").read_text()):
                self.assertLess(time.monotonic(), until)
            time.sleep(1)
            parent.kill()
            # Far sooner than its own limits would end it.
            parent.wait()
            until = time.monotonic() + 6
            while Path(f"/proc/{own[0]}").exists():
                self.assertLess(time.monotonic(), until)
                time.sleep(0.05)


if __name__ == "__main__":
    unittest.main()
