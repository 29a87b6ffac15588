"""What tests of the real interface have in common: a server, a browser, and how they are spoken to."""

import atexit
import tempfile
import unittest
from functools import cache
from pathlib import Path

from selenium.webdriver.common.action_chains import ActionChains

from tests.browser.driver import Browser, Server
from tests.support import stl


def start():
    """Use the server and the browser that all modules share: to start both takes longer than most tests."""
    server, browser, folder = shared()
    for left in folder.iterdir():
        left.unlink()
    BrowserCase.server, BrowserCase.browser, BrowserCase.folder = server, browser, folder


@cache
def shared():
    """A server and a browser for the whole process, with the folder that files come down to."""
    folder = Path(tempfile.mkdtemp(prefix="heron-downloads-"))
    server = Server(upload_mb=20)
    atexit.register(server.close)
    browser = Browser(folder)
    atexit.register(browser.close)
    return server, browser, folder


class BrowserCase(unittest.TestCase):
    def setUp(self):
        self.browser.problems()

    def tearDown(self):
        self.assertEqual(self.browser.problems(), [])

    def open_job(self, body, section=1):
        job_id = self.server.upload("part.stl", stl(body))
        self.browser.open(f"{self.server.url}/jobs/{job_id}?open={section}")
        self.browser.ready()
        return job_id

    def sheet(self, job_id):
        sheet = self.server.get(f"/api/jobs/{job_id}")["sheet"]
        return {**sheet, **sheet["items"][0]}

    def colours(self):
        """Count the plum, copper and all pixels of the view."""
        return self.browser.run(
            """
            const view = window.heron.view; view.snapshot();
            const gl = view.renderer.getContext(), w = gl.drawingBufferWidth, h = gl.drawingBufferHeight;
            const p = new Uint8Array(4 * w * h); gl.readPixels(0, 0, w, h, gl.RGBA, gl.UNSIGNED_BYTE, p);
            let plum = 0, copper = 0;
            for (let i = 0; i < p.length; i += 4) {
              if (p[i + 2] > p[i + 1] + 30 && p[i] > p[i + 1] + 8) plum++;
              if (p[i] > p[i + 2] + 50) copper++;
            }
            return {plum, copper, all: p.length / 4};
            """
        )

    def drag(self, selector, start, end):
        """Press, move and let go inside an element; offsets from its middle."""
        chain = ActionChains(self.browser.driver, duration=30)
        chain.move_to_element_with_offset(self.browser.find(selector), *start).click_and_hold()
        for k in range(1, 6):
            chain.move_to_element_with_offset(
                self.browser.find(selector),
                *(int(a + (b - a) * k / 5) for a, b in zip(start, end, strict=True)),
            )
        chain.release().perform()
