"""A server of our own and one headless Chromium, for browser tests and for the documentation's pictures."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from selenium import webdriver
from selenium.common.exceptions import (
    ElementClickInterceptedException,
    ElementNotInteractableException,
    StaleElementReferenceException,
    TimeoutException,
)
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement
from selenium.webdriver.support.ui import WebDriverWait

from tests.support import below

FLAGS = [
    "--headless=new",
    "--no-sandbox",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--use-angle=swiftshader",
    "--enable-unsafe-swiftshader",
    "--hide-scrollbars",
    "--disable-dev-shm-usage",
]
# Long enough for a machine with other work beside: a wait ends when its condition holds.
WAIT_S = 180
# On a fresh machine the worker compiles all kernels before it reads its first part.
FIRST_S = 400


class Server:
    """The application in a process and on a port of its own, with a database in a temporary folder."""

    def __init__(self, *, demo: bool = False, upload_mb: int = 256) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="heron-test-"))
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        self.url = f"http://127.0.0.1:{self.port}"
        self._environment = os.environ | {
            "UPRIGHT_HERON_DATABASE": str(self.folder / "heron.sqlite3"),
            "UPRIGHT_HERON_DEMO": str(int(demo)),
            "UPRIGHT_HERON_UPLOAD_MB": str(upload_mb),
        }
        self.start()

    def start(self) -> None:
        """Start the process and wait until it answers."""
        command = [
            sys.executable, "-m", "uvicorn", "--factory", "upright_heron.web.app:create_app",
            "--port", str(self.port), "--log-level", "warning", "--timeout-graceful-shutdown", "1",
        ]  # fmt: skip
        log = (self.folder / "server.log").open("ab")
        self.process = subprocess.Popen(
            command, env=self._environment, stdout=log, stderr=log, start_new_session=True
        )
        log.close()
        until = time.monotonic() + 120
        while True:
            try:
                self.get("/api/printers")
                return
            except OSError:
                if self.process.poll() is not None or time.monotonic() > until:
                    raise RuntimeError((self.folder / "server.log").read_text()) from None
                time.sleep(0.1)

    def get(self, path: str) -> Any:
        """JSON of an address."""
        with urllib.request.urlopen(self.url + path, timeout=60) as answer:
            return json.load(answer)

    def upload(self, name: str, data: bytes, job_id: str = "") -> str:
        """Take a file in, as a job or as a part of one, and return the identifier of the job."""
        where = f"/api/jobs/{job_id}/items" if job_id else "/api/jobs"
        own = {"Origin": self.url}
        request = urllib.request.Request(f"{self.url}{where}?name={name}", data, own, method="POST")
        with urllib.request.urlopen(request, timeout=FIRST_S) as answer:
            return str(json.load(answer)["id"])

    def post(self, path: str, body: dict[str, Any], item: str = "") -> Any:
        """Send JSON, about an item where one is named, and return the answer."""
        about = {"Content-Type": "application/json", "Origin": self.url, "Heron-Item": item}
        request = urllib.request.Request(f"{self.url}{path}", json.dumps(body).encode(), about, method="POST")
        with urllib.request.urlopen(request, timeout=FIRST_S) as answer:
            return json.load(answer)

    def settle(self, job_id: str) -> None:
        """Wait until everything that a job shows is made."""
        until = time.monotonic() + 180
        while (task := self.get(f"/api/jobs/{job_id}/task")["task"]) is not None:
            if task["state"] == "failed" or time.monotonic() > until:
                raise RuntimeError(str(task))
            time.sleep(0.2)

    def kill(self) -> None:
        """End the server and its workers at once, as a power cut would."""
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()

    @contextlib.contextmanager
    def paused(self) -> Iterator[None]:
        """Halt the workers of the server: what is under way stays so, however fast the machine is."""
        workers = below(self.process.pid)
        for worker in workers:
            os.kill(worker, signal.SIGSTOP)
        try:
            yield
        finally:
            for worker in workers:
                with contextlib.suppress(ProcessLookupError):
                    os.kill(worker, signal.SIGCONT)

    def close(self) -> None:
        """End the server and throw its folder away."""
        self.process.terminate()
        try:
            self.process.wait(timeout=10)
        except subprocess.TimeoutExpired:
            self.kill()
        shutil.rmtree(self.folder, ignore_errors=True)


class Browser:
    """Headless Chromium at 1280 x 800, with waits for conditions."""

    def __init__(self, downloads: Path | None = None, wait_s: float = WAIT_S) -> None:
        self.wait_s = wait_s
        options = webdriver.ChromeOptions()
        options.binary_location = "/usr/bin/chromium"
        self.profile = tempfile.mkdtemp(prefix="heron-chromium-")
        for flag in [*FLAGS, f"--user-data-dir={self.profile}"]:
            options.add_argument(flag)
        if downloads is not None:
            options.add_experimental_option("prefs", {"download.default_directory": str(downloads)})
        options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
        self.driver = webdriver.Chrome(service=Service("/usr/bin/chromedriver"), options=options)
        self.size(1280, 800)

    def size(self, width: int, height: int) -> None:
        """Set the size of the page."""
        metrics = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False}
        self.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", metrics)

    def close(self) -> None:
        """End the browser."""
        self.driver.quit()
        shutil.rmtree(self.profile, ignore_errors=True)

    def open(self, url: str) -> None:
        """Go to an address."""
        self.driver.get(url)

    def run(self, script: str, *arguments: Any) -> Any:
        """Run a script in the page."""
        return self.driver.execute_script(script, *arguments)

    def wait(self, condition: Any, message: str = "") -> Any:
        """Wait until a function of the page is true."""
        # Figures that come in swap the sheet: an element may go between being found and being used.
        ignored = [
            StaleElementReferenceException,
            ElementNotInteractableException,
            ElementClickInterceptedException,
        ]
        try:
            return WebDriverWait(self.driver, self.wait_s, 0.05, ignored).until(
                lambda _: condition(), message
            )
        except TimeoutException as late:
            raise TimeoutException(f"{message}; {self.state()}") from late

    def state(self) -> str:
        """What the page shows, for whoever reads that a test waited in vain."""
        shown = """const seen = (s) => [...document.querySelectorAll(s)].map((e) => e.innerText || e.id);
            const heron = window.heron ?? {};
            return {at: location.pathname + location.search, ready: document.body.dataset.ready,
              open: seen('[aria-expanded=true]'), work: seen('#work'), notice: seen('#notice, .notice'),
              asked: [Boolean(heron.refreshing), heron.pressed, heron.late], sheet: seen('#sheet').join().slice(-600)};"""
        return json.dumps(self.run(shown))

    def find(self, selector: str) -> WebElement:
        """Wait for an element."""
        found = self.wait(lambda: self.driver.find_elements(By.CSS_SELECTOR, selector), f"no {selector}")
        return found[0]

    def all(self, selector: str) -> list[WebElement]:
        """All elements there are now."""
        return self.driver.find_elements(By.CSS_SELECTOR, selector)

    def click(self, selector: str) -> None:
        """Wait for an element and click it."""
        self.wait(lambda: self._clicked(selector), f"cannot click {selector}")

    def _clicked(self, selector: str) -> bool:
        found = self.driver.find_elements(By.CSS_SELECTOR, selector)
        if not found or not found[0].is_displayed() or not found[0].is_enabled():
            return False
        try:
            found[0].click()
        except ElementClickInterceptedException:
            # It is in sight for the driver, but under what sticks to the top: a person would scroll.
            self.run("arguments[0].scrollIntoView({block: 'center'})", found[0])
            raise
        return True

    def open_section(self, number: int) -> None:
        """Open a section; where the sheet is drawn anew just then, its line is pressed once more."""
        line = f"#open-{number}"

        def opened() -> bool:
            if self.attribute(line, "aria-expanded") == "true":
                return True
            self._clicked(line)
            time.sleep(0.5)
            return False

        self.wait(opened, f"section {number} does not open")

    def plan_ready(self) -> None:
        """Wait until the plan of a plate shows the step that the page is at."""
        self.ready()
        same = """const panel = document.querySelector('#plan-panel');
            return panel.getAttribute('aria-busy') === 'false'
              && (panel.dataset.shown ?? '').split(' ')[0] === String(window.heron.state.step);"""
        self.wait(lambda: self.run(same), "the plan is not drawn")

    def fill(self, selector: str, text: str, end: str = Keys.TAB) -> None:
        """Type over the value of a field and leave it."""
        self.wait(lambda: self._filled(selector, text, end), f"cannot fill {selector}")

    def _filled(self, selector: str, text: str, end: str) -> bool:
        self.find(selector).send_keys(Keys.CONTROL + "a", Keys.NULL, text, end)
        return True

    def text(self, selector: str) -> str:
        """Text of an element."""
        self.find(selector)
        # A swap may take it away between being found and being read.
        return str(
            self.wait(lambda: [found.text.strip() or " " for found in self.all(selector)[:1]])[0]
        ).strip()

    def send(self, selector: str, text: str) -> None:
        """Type into an element, or give a file field its files."""
        self.wait(lambda: (self.find(selector).send_keys(text), True)[1], f"cannot type into {selector}")

    def attribute(self, selector: str, name: str) -> str | None:
        """Attribute or property of an element."""
        return self.wait(lambda: (self.find(selector).get_attribute(name),))[0]

    def hover(self, selector: str) -> None:
        """Bring an element into sight and point at it."""
        self.wait(lambda: self._hovered(selector), f"cannot point at {selector}")

    def _hovered(self, selector: str) -> bool:
        element = self.find(selector)
        self.run("arguments[0].scrollIntoView({block: 'center'})", element)
        ActionChains(self.driver).move_to_element(element).perform()
        return True

    def ready(self, *, supports: bool | None = None) -> dict[str, Any]:
        """Wait until the view shows the layers (and supports or none) of the step on the page.

        Nothing that was asked for is on its way then: its answer would be another step.
        """

        def check() -> dict[str, Any] | None:
            state = self.run("return document.body.dataset.ready")
            shown = json.loads(state) if state else None
            if not shown or not shown["layers"] or self.all("#work") or self.all(".htmx-request"):
                return None
            if supports is not None and bool(shown["supports"]) != supports:
                return None
            return dict(shown)

        try:
            found: dict[str, Any] = self.wait(check)
        except TimeoutException as late:
            work = [element.text for element in self.all("#work")]
            state = self.run("return [document.body.dataset.ready, Boolean(window.heron.refreshing)]")
            raise AssertionError(f"the view did not become ready: {state}, under way: {work}") from late
        return found

    def problems(self) -> list[str]:
        """Errors and warnings of the browser's console since the last call."""
        known = ("GPU stall", "GroupMarkerNotSet", "swiftshader")
        return [
            entry["message"]
            for entry in self.driver.get_log("browser")
            if entry["level"] in ("SEVERE", "WARNING") and not any(k in entry["message"] for k in known)
        ]
