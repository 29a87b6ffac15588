"""Fetch and build what the pages ship: vendored modules, fonts and the stylesheet (``make assets``).

The result is committed, so that running and testing need neither npm nor a build. ``--check`` tells whether
the committed stylesheet still fits its sources, without npm.
"""

from __future__ import annotations

import hashlib
import json
import shutil
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
WEB = ROOT / "src/upright_heron/web"
STATIC = WEB / "static"
MANIFEST = STATIC / "vendor/manifest.json"
MODULES = ROOT / "node_modules"

FILES = {
    "three": {
        "build/three.module.js": "vendor/three/three.module.js",
        "build/three.core.js": "vendor/three/three.core.js",
        "examples/jsm/controls/OrbitControls.js": "vendor/three/addons/controls/OrbitControls.js",
        "examples/jsm/geometries/ConvexGeometry.js": "vendor/three/addons/geometries/ConvexGeometry.js",
        "examples/jsm/math/ConvexHull.js": "vendor/three/addons/math/ConvexHull.js",
        "LICENSE": "vendor/three/LICENSE",
    },
    "three-mesh-bvh": {
        "build/index.module.js": "vendor/three-mesh-bvh/index.module.js",
        "LICENSE": "vendor/three-mesh-bvh/LICENSE",
    },
    "htmx.org": {"dist/htmx.min.js": "vendor/htmx/htmx.min.js", "LICENSE": "vendor/htmx/LICENSE"},
    "@fontsource-variable/atkinson-hyperlegible-next": {
        "files/atkinson-hyperlegible-next-latin-wght-normal.woff2": (
            "fonts/atkinson-hyperlegible-next-latin-wght-normal.woff2"
        ),
        "LICENSE": "fonts/LICENSE",
    },
    "lucide-static": {"LICENSE": "vendor/lucide/LICENSE"},
    "tailwindcss": {},
}


# The same font again, for numbers in joints: the core takes nothing from the pages.
FONT = "fonts/atkinson-hyperlegible-next-latin-wght-normal.woff2"
CORE_FONTS = ROOT / "src/upright_heron/core/split/fonts"
COPIES = {FONT: "atkinson-hyperlegible-next.woff2", "fonts/LICENSE": "LICENSE"}


def sources_digest() -> str:
    """Digest of everything that the stylesheet is built from."""
    h = hashlib.blake2b(digest_size=16)
    paths = [
        ROOT / "assets/app.css",
        *WEB.glob("templates/**/*.html"),
        *WEB.glob("sections/**/*.html"),
        *STATIC.glob("js/**/*.js"),
    ]
    for path in sorted(paths):
        h.update(path.relative_to(ROOT).as_posix().encode() + b"\0" + path.read_bytes())
    return h.hexdigest()


def stale() -> list[str]:
    """What does not fit any more; empty when all is well."""
    manifest = json.loads(MANIFEST.read_text())
    problems = []
    if manifest["stylesheet"]["sources"] != sources_digest():
        problems.append("The stylesheet is older than its sources: run make assets.")
    for entry in manifest["packages"]:
        for name, digest in entry["files"].items():
            path = STATIC / name
            if not path.exists() or hashlib.sha256(path.read_bytes()).hexdigest() != digest:
                problems.append(f"{name} is not the file that the manifest describes.")
    for name, copy in COPIES.items():
        if (STATIC / name).read_bytes() != (CORE_FONTS / copy).read_bytes():
            problems.append(f"{copy} of the core is not the font of the pages: run make assets.")
    return problems


def build() -> None:
    """Install from npm, copy, build the stylesheet and write the manifest."""
    subprocess.run(["npm", "install", "--ignore-scripts", "--no-audit", "--no-fund"], cwd=ROOT, check=True)
    packages = []
    for name, files in FILES.items():
        about = json.loads((MODULES / name / "package.json").read_text())
        copied = {}
        for source, target in files.items():
            (STATIC / target).parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(MODULES / name / source, STATIC / target)
            copied[target] = hashlib.sha256((STATIC / target).read_bytes()).hexdigest()
        packages.append(
            {"name": name, "version": about["version"], "licence": about["license"], "files": copied}
        )
    for name, copy in COPIES.items():
        shutil.copyfile(STATIC / name, CORE_FONTS / copy)
    subprocess.run(
        ["npx", "tailwindcss", "-i", "assets/app.css", "-o", str(STATIC / "css/app.css"), "--minify"],
        cwd=ROOT,
        check=True,
    )
    manifest = {"stylesheet": {"file": "css/app.css", "sources": sources_digest()}, "packages": packages}
    MANIFEST.write_text(json.dumps(manifest, indent=2) + "\n")


def main() -> int:
    """Build, or with ``--check`` only look."""
    if "--check" in sys.argv:
        problems = stale()
        for problem in problems:
            print(problem)
        return 1 if problems else 0
    build()
    return 0


if __name__ == "__main__":
    sys.exit(main())
