"""Speed of the page itself, in headless Chromium: one layer further, and one dab of the brush."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from tests.browser.driver import Browser, Server

# The script of a step alone: what it asks to be drawn is drawn by the browser when it can.
LAYERS = """
const p = window.heron.profile, times = [];
for (let i = 0; i < p.levels.length; i++) {
  const begun = performance.now(); p.set(i); times.push(performance.now() - begun);
}
return times;
"""
DABS = """
const v = window.heron.view, r = v.canvas.getBoundingClientRect(), times = [];
v.brush.stroke = new Set();
for (let i = 0; i < 200; i++) {
  const [x, y] = [r.left + r.width / 2 + 80 * Math.cos(i / 7), r.top + r.height / 2 + 80 * Math.sin(i / 5)];
  const begun = performance.now(); v.brush.dab(x, y); times.push(performance.now() - begun);
}
v.brush.stroke = null;
return times;
"""


def in_the_page(data: bytes) -> tuple[list[float], list[float]]:
    """Times of every step through the layers of an STL, and of 200 dabs on its fine mesh, seconds."""
    server, browser = Server(), None
    try:
        browser = Browser()
        job_id = server.upload("part.stl", data)
        server.settle(job_id)
        browser.open(f"{server.url}/jobs/{job_id}?open=5")
        browser.ready()
        layers = measured(browser, LAYERS)
        browser.click("#tab-marks")
        browser.wait(lambda: (browser.run("return window.heron.keys.mesh") or "").startswith("fine/"))
        browser.click('[data-brush="prop"]')
        return layers, measured(browser, DABS)
    finally:
        if browser is not None:
            browser.close()
        server.close()


def measured(browser: Browser, script: str) -> list[float]:
    """Seconds of the second run of a script that returns milliseconds: the first one warms the page."""
    browser.run(script)
    found: list[Any] = browser.run(script)
    return [float(ms) / 1000 for ms in found]
