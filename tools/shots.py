"""Pictures of the main views for the documentation, from the demo data (``make shots``)."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

from selenium.webdriver.support.ui import Select, WebDriverWait

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

from tests.browser.driver import Browser, Server  # noqa: E402

TARGET = ROOT / "docs/screenshots"


def job(name: str, section: int) -> str:
    """Address of a section of a demo job."""
    return f"/jobs/demo-{name}?open={section}"


def layer(index: int) -> Callable[[Browser], None]:
    """Go to a layer of the print."""
    return lambda b: b.run("window.heron.profile.set(arguments[0])", index)


def look(side: str) -> Callable[[Browser], None]:
    """Look from a side."""
    return lambda b: b.click(f'[data-view="{side}"]')


def show_paths(b: Browser) -> None:
    """Show the paths of a layer, with the beads below it cut open."""
    WebDriverWait(b.driver, 300, 2.0).until(lambda _: b.all("#timed"))
    b.click("#show-paths")
    b.wait(lambda: b.run("return window.heron.view.beads.data !== null"))
    layer(119)(b)
    look("corner")(b)
    b.click("#paths-open")
    b.wait(lambda: b.text("#open-told"))
    # Nearer: beads are thin.
    b.run(
        """const {view} = window.heron, {target} = view.controls;
        target.set(-8, -16, 7);
        view.camera.position.set(target.x + 40, target.y - 78, target.z + 34);
        view.controls.update(); view.redraw();"""
    )
    b.ready()


def find_stances(b: Browser) -> None:
    """Search, and wait for the exact figures."""
    b.click("#find")
    b.wait(lambda: "exact figures below" in b.text("#board"))
    b.wait(lambda: not b.all("#stop"))
    b.ready()


def compare(b: Browser) -> None:
    """Put the first proposal and the stance the part came in side by side, half way up."""
    if b.all("#find") and "exact figures below" not in b.text("#board"):
        find_stances(b)
    boxes = b.all("[data-compare]")
    boxes[0].click()
    next(x for x in boxes if x.get_attribute("data-name") == "as it came").click()
    b.click("#compare")
    b.wait(lambda: b.run("return document.body.dataset.pair"))
    b.run("window.heron.profile.set(Math.round(window.heron.profile.levels.length * 0.45))")


def pick_finding(b: Browser) -> None:
    """Fly to the underside of the body."""
    b.run("window.heron.controllers.get('overhangs').findings.named('overhang 3')")
    b.wait(lambda: b.run("return document.body.dataset.finding") == "overhang 3")


def pick_tree(b: Browser) -> None:
    """Pick the tree under the clamp ring."""
    b.click("#tab-hand")
    choose = "const f = document.querySelector('#hand-reason');"
    find = "f.selectedIndex = [...f.options].findIndex(o => o.text.startsWith('overhang 3'));"
    b.run(choose + find + "f.dispatchEvent(new Event('change', {bubbles: true}))")
    b.wait(lambda: b.all("#picked-one"))
    b.wait(lambda: "being looked at" not in b.text("#picked"))


def put_tip(b: Browser) -> None:
    """Put a tip of a stilt by hand, seen from below."""
    b.click('[data-view="below"]')
    b.click("#tab-tips")
    b.click("#tip-put")
    click_view(b, 30, 20)
    b.wait(lambda: b.all("#tips-around"))
    b.wait(lambda: not b.run("return window.heron.state.supports?.endsWith('-edited')"))


def compare_supports(b: Browser) -> None:
    """Keep what is proposed, hold all by trees, and draw the difference."""
    b.click("#tab-side")
    b.fill("#variant-name", "proposed")
    b.click("#keep-variant")
    b.wait(lambda: len(b.all("[data-difference]")) == 1)
    b.click("#tab-make")
    b.run("document.querySelector('#style').value = 'tree'")
    b.click("#make-supports")
    b.click("#tab-side")
    b.wait(lambda: "tree, limit" in b.text("#side") and "…" not in b.text("#variants") and not b.all("#work"))
    b.ready(supports=True)
    b.click("[data-difference]")
    b.wait(lambda: b.run("return document.body.dataset.differs"))


def back(b: Browser) -> None:
    """Undo a step, if there is one."""
    if b.find("#undo").is_enabled():
        b.click("#undo")
        b.wait(lambda: not b.all("#work"))
        b.ready()


def paint_marks(b: Browser) -> None:
    """Keep the cable channel clear, prop what hangs, and paint the front of the ring as its show side."""
    b.click("#tab-marks")
    b.wait(lambda: (b.run("return window.heron.keys.mesh") or "").startswith("fine/"))
    b.click("#find-channels")
    b.click('[data-keep-channel="6"]')
    b.wait(lambda: b.text("#area-clear") != "none")
    b.click('[data-brush="prop"]')
    b.click('[data-fill-all="past"]')
    b.wait(lambda: b.text("#area-prop") != "none")
    b.click('[data-keep-channel="6"]')
    b.wait(lambda: not b.all("#stop"))
    b.ready()
    b.click('[data-brush="show"]')
    fill = "const s = document.querySelector('#fill-what'); s.value = 'face';"
    b.run(fill + "s.dispatchEvent(new Event('change', {bubbles: true}))")
    click_view(b, 90, 60)
    b.wait(lambda: b.text("#area-show") != "none")
    b.wait(lambda: not b.all("#stop"))
    b.ready()
    b.run("document.querySelector('#tab-marks').scrollIntoView()")


def make_set(b: Browser) -> None:
    """Make items of the pieces, stand and arrange them, and show the plates."""
    b.click("#make-pieces")
    b.click("#stand-pieces")
    b.wait(lambda: b.all("#set tr[data-state]") and not b.all('#set tr[data-state="to stand"]'))
    # Supports of all pieces take longer than a page is waited for.
    WebDriverWait(b.driver, 300, 2.0).until(
        lambda _: b.run("return !document.querySelector('#takes').textContent.includes('known')")
    )
    b.open(b.driver.current_url.replace("open=3", "open=9"))
    b.ready()
    b.click("#arrange-all")
    WebDriverWait(b.driver, 300, 2.0).until(lambda _: len(b.all("#plan-plates button")) > 1)
    b.plan_ready()
    # The two smallest pieces go to a smaller printer.
    last = len(b.all("#plan-plates button")) + 1
    for number in (3, 4):
        b.click(f"#part-{number}")
        b.wait(lambda number=number: b.attribute(f"#part-{number}", "aria-pressed") == "true")
        b.ready()
        Select(b.find("#place-plate")).select_by_value(str(last))
        b.wait(lambda: b.attribute("#all-plates", "data-here") == str(last))
    b.click(".machine-choice button")
    b.click("[data-printer='Reed 190'] button")
    b.wait(lambda: "Reed 190" in b.text("#all-plates"))
    b.click("#arrange-all")
    b.wait(lambda: b.all("#arrange"))
    b.plan_ready()


def show_mask(b: Browser) -> None:
    """Show the mask of the layer in which an island of the plumage begins."""
    page = "const {profile, state} = window.heron;"
    at = b.run(page + "return profile.levels.findIndex((level) => level.part === state.islands[6].layer)")
    layer(at)(b)
    b.click("#show-mask")
    b.wait(lambda: b.run("return document.querySelector('#mask').dataset.layer") == str(at))


def at_work(b: Browser) -> None:
    """Two simulated printers: one prints, one waits for a spool with another print behind."""
    import tempfile

    from tests.floor.rack import Rack

    rack = Rack(Path(tempfile.mkdtemp(prefix="heron-shots-")))
    floor = b.driver.current_url
    machines = {}
    for name, grams in (("Sedge, by the door", 900.0), ("Sedge, at the window", 40.0)):
        machines[name], url = rack.add("Sedge 300", name, speed_up=300, grams=grams)
        b.fill("#add-machine input[name=name]", name)
        b.fill("#add-machine input[name=url]", url)
        b.click("#add-machine button")
        b.wait(lambda name=name: b.all(f'[data-station="{name}"][data-state=idle]'))
    b.open(floor.replace("/floor", job("telescope-bracket", 9)))
    b.ready()
    for count, name in enumerate([*machines, "Sedge, at the window"], 1):
        send = f"""document.querySelector('#send-station').value = '{name}';
            const why = document.querySelector('#send-excuse');
            if (why) why.value = 'the bridge is trimmed by hand';
            document.querySelector('#send').click();"""
        b.run(send)
        WebDriverWait(b.driver, 200, 1.0).until(lambda _, n=count: len(b.all("#sent li")) == n)
    b.open(floor)
    WebDriverWait(b.driver, 200, 1.0).until(lambda _: b.all("[data-state=empty]"))


def click_view(b: Browser, x: int, y: int) -> None:
    """Click in the view, so far from its middle."""
    from selenium.webdriver.common.action_chains import ActionChains

    ActionChains(b.driver).move_to_element_with_offset(b.find("#canvas"), x, y).click().perform()


VIEWS: dict[str, tuple[str, list[Callable[[Browser], None]]]] = {
    "yard": ("/", [lambda b: b.wait(lambda: not b.all(".card .waiting"))]),
    "part": (job("heron-figurine", 1), []),
    "health": ("torn", [lambda b: b.click('[data-place-step="1"]')]),
    "machines": ("/machines", []),
    "split": (job("dragonfly", 3), []),
    "stance-board": (job("heron-figurine", 4), [find_stances]),
    "stance-pair": (job("heron-figurine", 4), [compare]),
    "overhangs": (job("heron-figurine", 5), [pick_finding]),
    "supports-filament": (job("telescope-bracket", 6), []),
    "supports-by-hand": (job("telescope-bracket", 6), [pick_tree]),
    "supports-resin": (job("heron-figurine", 6), [put_tip]),
    "footing": (job("telescope-bracket", 7), [look("above")]),
    "layers": (job("heron-figurine", 8), [show_mask]),
    "paths": (job("telescope-bracket", 8), [show_paths]),
    "hand-off": (job("dragonfly", 3), [make_set]),
    "floor": ("/floor", [at_work]),
    "traveller": ("/jobs/demo-dragonfly/traveller", []),
    # Last: these change the job that other pictures show as it is.
    "supports-compared": (job("telescope-bracket", 6), [compare_supports]),
    "marks": (job("telescope-bracket", 5), [back, back, paint_marks]),
}


def special(server: Server) -> dict[str, str]:
    """Make what the demo jobs do not show: a torn part."""
    from upright_heron.core.geometry.mesh import Mesh
    from upright_heron.core.handoff.stl import write_stl
    from upright_heron.demo.shapes import SHAPES

    whole = SHAPES["telescope-bracket"]()
    middle = whole.vertices[whole.faces].mean(axis=1)
    gone = ((middle - middle[900]) ** 2).sum(axis=1).argsort()[:14]
    torn = Mesh(
        whole.vertices, [f for i, f in enumerate(whole.faces.tolist()) if i not in set(gone.tolist())]
    )
    job_id = server.upload("torn.stl", write_stl(torn))
    server.settle(job_id)
    return {"torn": f"/jobs/{job_id}?open=1"}


# Pictures are as with a graphics card: the view has smooth edges.
CARD = """const real = WebGL2RenderingContext.prototype.getParameter;
WebGL2RenderingContext.prototype.getParameter = function (name) {
  return name === 37446 ? 'a card' : real.call(this, name);
};"""


def main(wanted: list[str]) -> None:
    """Take all pictures, or those named on the command line."""
    TARGET.mkdir(parents=True, exist_ok=True)
    server = Server(demo=True)
    browser = Browser()
    browser.driver.execute_cdp_cmd("Page.addScriptToEvaluateOnNewDocument", {"source": CARD})
    try:
        for entry in server.get("/api/jobs"):
            server.settle(entry["id"])
        made = special(server)
        for name, (path, steps) in VIEWS.items():
            path = made.get(path, path)
            if wanted and name not in wanted:
                continue
            browser.open(server.url + path)
            if "open=" in path:
                browser.ready()
            for step in steps:
                step(browser)
            browser.wait(
                lambda: browser.run(
                    "return [...document.images].every(i => i.complete) && document.fonts.status === 'loaded'"
                    " && !(window.heron && window.heron.view.pending)"
                )
            )
            browser.run("return new Promise(r => requestAnimationFrame(() => requestAnimationFrame(r)))")
            browser.driver.save_screenshot(str(TARGET / f"{name}.png"))
            for problem in browser.problems():
                print(f"{name}: {problem}")
            print(TARGET / f"{name}.png")
    finally:
        browser.close()
        server.close()


if __name__ == "__main__":
    main(sys.argv[1:])
