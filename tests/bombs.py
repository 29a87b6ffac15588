"""Files that bite, made here: small ones that come to much, break readers, or lie. Each with a name."""

from __future__ import annotations

import io
import json
import math
import random
import struct
import zipfile
from collections.abc import Iterator

CORE = "http://schemas.microsoft.com/3dmanufacturing/core/2015/02"
TRIANGLE = (
    '<mesh><vertices><vertex x="0" y="0" z="0"/><vertex x="1" y="0" z="0"/><vertex x="0" y="1" z="0"/>'
    '</vertices><triangles><triangle v1="0" v2="1" v3="2"/></triangles></mesh>'
)


def zipped(entries: dict[str, bytes | str]) -> bytes:
    """A zip archive."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as folder:
        for name, data in entries.items():
            folder.writestr(name, data)
    return out.getvalue()


def model(objects: str, items: str, head: str = '<?xml version="1.0"?>') -> str:
    """The text of a 3MF model."""
    return (
        f'{head}<model unit="millimeter" xmlns="{CORE}"><resources>{objects}</resources>'
        f"<build>{items}</build></model>"
    )


def package(objects: str, items: str, **more: str) -> bytes:
    """A 3MF package."""
    return zipped({"3D/3dmodel.model": model(objects, items, **more)})


def doubled(times: int, first: str, by: int = 2) -> str:
    """Objects that each contain the one before several times."""
    found = [f'<object id="0">{first}</object>']
    for k in range(1, times + 1):
        inner = f'<component objectid="{k - 1}"/>' * by
        found.append(f'<object id="{k}"><components>{inner}</components></object>')
    return "".join(found)


def soup(facets: int) -> str:
    """A mesh of loose facets in 3MF."""
    corners = '<vertex x="0" y="0" z="0"/><vertex x="1" y="0" z="0"/><vertex x="0" y="1" z="0"/>' * facets
    faces = "".join(f'<triangle v1="{3 * k}" v2="{3 * k + 1}" v3="{3 * k + 2}"/>' for k in range(facets))
    return f"<mesh><vertices>{corners}</vertices><triangles>{faces}</triangles></mesh>"


def glb(tree: object, binary: bytes = b"", text: bytes | None = None) -> bytes:
    """A binary glTF file."""
    told = json.dumps(tree).encode() if text is None else text
    told += b" " * (-len(told) % 4)
    body = struct.pack("<I4s", len(told), b"JSON") + told
    if binary:
        body += struct.pack("<I4s", len(binary), b"BIN\0") + binary
    return b"glTF" + struct.pack("<II", 2, 12 + len(body)) + body


def scene(**changes: object) -> dict[str, object]:
    """A glTF tree with one triangle of nine floats."""
    tree: dict[str, object] = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": [{"mesh": 0}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"}],
        "bufferViews": [{"buffer": 0, "byteLength": 36}], "buffers": [{"byteLength": 36}],
    }  # fmt: skip
    return tree | changes


FLOATS = struct.pack("<9f", 0, 0, 0, 1, 0, 0, 0, 1, 0)


def bombs() -> Iterator[tuple[str, str, bytes]]:
    """Name, name of the file, and what is in it."""
    yield from _packages()
    yield from _scenes()
    yield from _texts()
    yield from _meshes()
    yield from _steps()
    yield from _archives()


def _archives() -> Iterator[tuple[str, str, bytes]]:
    """Archives of whole jobs, as docs/archive.md has them."""

    def archive(jobs: str, blobs: str = "", **entries: bytes) -> bytes:
        told = f'{{"format": "upright-heron-archive", "version": 3, "jobs": [{jobs}], "blobs": [{blobs}]}}'
        return zipped({"contents.json": told, **entries})

    digest = "0" * 32
    step = '{{"id": 1, "number": 1, "label": "a", "created": "2026-01-01T00:00:00", "sheet": {sheet}}}'
    job = (
        '{{"id": "a", "shown": {shown}, "created": "2026-01-01T00:00:00", "touched": "2026-01-01T00:00:00", '
        '"steps": [{steps}]}}'
    )
    yield (
        "archive: 200 MB of blanks for its contents",
        "a.heron",
        zipped({"contents.json": b" " * 200_000_000}),
    )
    yield "archive: 10 million things for its jobs", "a.heron", archive(",".join(["{}"] * 10_000_000))
    yield (
        "archive: a blob of 300 MB of nothing",
        "a.heron",
        archive("", f'"{digest}"', **{f"blobs/{digest}": bytes(300_000_000)}),
    )
    for depth in (1000, 200_000):
        yield f"archive: {depth} brackets", "a.heron", zipped({"contents.json": b"[" * depth})
        yield (
            f"archive: a sheet of {depth} brackets",
            "a.heron",
            archive(job.format(shown=1, steps=step.format(sheet=json.dumps("[" * depth)))),
        )
    sheets = {
        "a sheet of nothing": "",
        "a sheet that is a list": "[]",
        "a sheet of a later schema": '{"schema_version": 99}',
        "a schema that is a word": '{"schema_version": "x"}',
        "a schema below zero": '{"schema_version": -3}',
        "a schema of no number": '{"schema_version": 1e400}',
        "a sheet of numbers": '{"schema_version": 2, "items": 7, "plates": {"a": 1}}',
    }
    for name, sheet in sheets.items():
        steps = step.format(sheet=json.dumps(sheet))
        yield f"archive: {name}", "a.heron", archive(job.format(shown=1, steps=steps))
    sound = step.format(sheet='"{}"')
    for name, shown, steps in (
        ("it shows a step that is not there", 7, sound),
        ("a step before itself", 1, sound.replace("{", '{"parent": 1, ', 1)),
        ("a lone surrogate", 1, step.format(sheet='"\\ud800"')),
        ("no steps", 1, ""),
    ):
        yield f"archive: {name}", "a.heron", archive(job.format(shown=shown, steps=steps))
    yield "archive: a folder that leaves its place", "a.heron", zipped({"../contents.json": b"{}"})


def _packages() -> Iterator[tuple[str, str, bytes]]:
    for times in (20, 24, 28, 31):
        for what, first in (("a facet", TRIANGLE), ("an empty mesh", "<mesh/>"), ("nothing", "")):
            yield (
                f"3MF: {what} doubled {times} times",
                "a.3mf",
                package(doubled(times, first), f'<item objectid="{times}"/>'),
            )
    yield "3MF: tenfold, nine deep", "a.3mf", package(doubled(9, TRIANGLE, 10), '<item objectid="9"/>')
    yield (
        "3MF: 600 items of 20,000 facets",
        "a.3mf",
        package(f'<object id="1">{soup(20_000)}</object>', '<item objectid="1"/>' * 600),
    )
    yield (
        "3MF: 100,000 items",
        "a.3mf",
        package(f'<object id="1">{TRIANGLE}</object>', '<item objectid="1"/>' * 100_000),
    )
    for name, inner in (("itself", "1"), ("its parent", "2")):
        objects = f'<object id="1"><components><component objectid="{inner}"/></components></object><object id="2"><components><component objectid="1"/></components></object>'
        yield f"3MF: an object in {name}", "a.3mf", package(objects, '<item objectid="2"/>')
    circle = "".join(
        f'<object id="{k}"><components><component objectid="{(k + 1) % 9}"/><component objectid="{(k + 2) % 9}"/></components></object>'
        for k in range(9)
    )
    yield "3MF: a circle of nine that branches", "a.3mf", package(circle, '<item objectid="0"/>')
    for number in ("9" * 30, "-9" + "9" * 30, "9" * 5000, "1e9", "0x10", "٣"):
        mesh = TRIANGLE.replace('v3="2"', f'v3="{number}"')
        yield (
            f"3MF: corner {number[:12]} of {len(number)}",
            "a.3mf",
            package(f'<object id="1">{mesh}</object>', '<item objectid="1"/>'),
        )
    for number in ("1" * 400_000, "1e99999", "nan", "-inf", ""):
        mesh = TRIANGLE.replace('x="1"', f'x="{number}"')
        yield (
            f"3MF: coordinate {number[:8]} of {len(number)}",
            "a.3mf",
            package(f'<object id="1">{mesh}</object>', '<item objectid="1"/>'),
        )
    yield (
        "3MF: a transform that is no number",
        "a.3mf",
        package(
            f'<object id="1">{TRIANGLE}</object>', '<item objectid="1" transform="1 0 0 0 1 0 0 0 1 0 0 x"/>'
        ),
    )
    yield (
        "3MF: a transform far out",
        "a.3mf",
        package(
            f'<object id="1">{TRIANGLE}</object>',
            f'<item objectid="1" transform="{" ".join(["1e300"] * 12)}"/>',
        ),
    )
    for head in ('<?xml version="1.0" encoding="utf-7"?>', '<?xml version="1.0" encoding="ebcdic-cp-us"?>', '<?xml version="9.9"?>',
                 '<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "c">]>',
                 '<?xml version="1.0"?><!DOCTYPE a SYSTEM "file:///etc/passwd">'):  # fmt: skip
        yield (
            f"3MF: {head[20:50]}",
            "a.3mf",
            package(f'<object id="1">{TRIANGLE}</object>', '<item objectid="1"/>', head=head),
        )
    laughs = "".join(f'<!ENTITY a{k} "{f"&a{k - 1};" * 10}">' for k in range(1, 10))
    yield (
        "3MF: entities in entities",
        "a.3mf",
        package("&a9;", "", head=f'<?xml version="1.0"?><!DOCTYPE m [<!ENTITY a0 "ha">{laughs}]>'),
    )
    yield "3MF: nested a million deep", "a.3mf", zipped({"3D/3dmodel.model": "<model>" + "<a>" * 1_000_000})
    yield (
        "3MF: an attribute of 50 MB",
        "a.3mf",
        zipped({"3D/3dmodel.model": '<model unit="' + "a" * 50_000_000 + '"/>'}),
    )
    yield "3MF: zeros that unpack to 400 MB", "a.3mf", zipped({"3D/3dmodel.model": b"\0" * 400_000_000})
    yield "3MF: 20,000 entries", "a.3mf", zipped({f"{k}.model": "" for k in range(20_000)})
    good = bytearray(package(f'<object id="1">{TRIANGLE}</object>', '<item objectid="1"/>'))
    for name, at in (("offset of its index", -6), ("size of its index", -10), ("number of its entries", -12)):
        bad = good.copy()
        bad[at : at + 4] = b"\xff\xff\xff\x7f"
        yield f"3MF: a lie about the {name}", "a.3mf", bytes(bad)
    for size in (4, 22, 60, len(good) // 2, len(good) - 1):
        yield f"3MF: cut off at {size}", "a.3mf", bytes(good[:size])
    stored = good.index(b"3D/3dmodel")
    for flag in (0x01, 0x41):
        bad = good.copy()
        bad[stored - 24] |= flag
        bad[bad.rindex(b"3D/3dmodel") - 38] |= flag
        yield f"3MF: locked, {flag:#x}", "a.3mf", bytes(bad)
    yield (
        "3MF: a path out of it",
        "a.3mf",
        zipped(
            {
                "_rels/.rels": '<Relationships><Relationship Type="x/3dmodel" Target="../../../etc/passwd"/></Relationships>'
            }
        ),
    )
    yield "AMF: a lone end", "a.amf", b"</amf>"
    for number in ("9" * 30, "-1", "1" * 5000, "1.5"):
        text = f"<amf><object id='1'><mesh><vertices>{'<vertex><coordinates><x>0</x><y>1</y><z>2</z></coordinates></vertex>' * 3}</vertices><volume><triangle><v1>0</v1><v2>1</v2><v3>{number}</v3></triangle></volume></mesh></object></amf>"
        yield f"AMF: corner {number[:8]} of {len(number)}", "a.amf", text.encode()


def _scenes() -> Iterator[tuple[str, str, bytes]]:
    for count in (10**8, 2**31, 2**63, 10**40, -1, 1.5, "3", None):
        bare = {"componentType": 5126, "count": count, "type": "VEC3"}
        yield f"GLB: {count} corners of nothing", "a.glb", glb(scene(accessors=[bare]), FLOATS)
        yield (
            f"GLB: {count} corners of 36 bytes",
            "a.glb",
            glb(scene(accessors=[bare | {"bufferView": 0}]), FLOATS),
        )
    yield (
        "GLB: 10^8 sparse corners",
        "a.glb",
        glb(
            scene(
                accessors=[{"componentType": 5126, "count": 10**8, "type": "VEC3", "sparse": {"count": 1}}]
            ),
            FLOATS,
        ),
    )
    many = 40_000
    yield (
        "GLB: 40,000 instances",
        "a.glb",
        glb(scene(nodes=[{"mesh": 0}] * many, scenes=[{"nodes": list(range(many))}]), FLOATS),
    )
    floats = FLOATS * 20_000
    large = {
        "accessors": [{"bufferView": 0, "componentType": 5126, "count": 60_000, "type": "VEC3"}],
        "bufferViews": [{"buffer": 0, "byteLength": len(floats)}],
        "buffers": [{"byteLength": len(floats)}],
    }
    yield (
        "GLB: 600 instances of 20,000 facets",
        "a.glb",
        glb(scene(**large, nodes=[{"mesh": 0}] * 600, scenes=[{"nodes": list(range(600))}]), floats),
    )
    yield (
        "GLB: 600 times the same corners in one mesh",
        "a.glb",
        glb(scene(**large, meshes=[{"primitives": [{"attributes": {"POSITION": 0}}] * 600}]), floats),
    )
    tree = [{"children": [k + 1, k + 1]} for k in range(30)] + [{"mesh": 0}]
    yield "GLB: nodes doubled 30 times", "a.glb", glb(scene(nodes=tree), FLOATS)
    yield (
        "GLB: a circle of nodes",
        "a.glb",
        glb(scene(nodes=[{"mesh": 0, "children": [1]}, {"children": [0]}]), FLOATS),
    )
    yield "GLB: a node in itself", "a.glb", glb(scene(nodes=[{"mesh": 0, "children": [0]}]), FLOATS)
    picture = {"images": [{"uri": "data:image/png;base64," + "A" * 4_000_000}] * 20, "textures": [{"source": k} for k in range(20)],
               "materials": [{"pbrMetallicRoughness": {"baseColorTexture": {"index": k}}} for k in range(20)]}  # fmt: skip
    yield (
        "GLB: twenty pictures that are none",
        "a.glb",
        glb(
            scene(**picture, meshes=[{"primitives": [{"attributes": {"POSITION": 0}, "material": 3}]}]),
            FLOATS,
        ),
    )
    yield (
        "GLB: a buffer elsewhere",
        "a.glb",
        glb(scene(buffers=[{"byteLength": 36, "uri": "file:///etc/passwd"}])),
    )
    yield (
        "GLB: a buffer in the network",
        "a.glb",
        glb(scene(buffers=[{"byteLength": 36, "uri": "http://example.org/a.bin"}])),
    )
    for depth in (1000, 200_000):
        yield f"GLB: {depth} brackets", "a.glb", glb({}, text=b"[" * depth)
    for text in (
        b"",
        b"null",
        b"[]",
        b"{}",
        b'{"meshes": 3}',
        b'{"nodes": [null]}',
        b'"\\ud800"',
        b"{" + b'"a":' * 10,
        b"\xff\xfe{}",
    ):
        yield f"GLB: {text[:14]!r}", "a.glb", glb({}, text=text)
    for name in ("meshes", "nodes", "accessors", "bufferViews", "buffers"):
        for wrong in (None, {}, [None], [[]], [7]):
            yield f"GLB: {name} are {wrong}", "a.glb", glb(scene(**{name: wrong}), FLOATS)
    good = bytearray(glb(scene(), FLOATS))
    for at in (8, 12):
        bad = good.copy()
        bad[at : at + 4] = b"\xff\xff\xff\xff"
        yield f"GLB: a length that lies at {at}", "a.glb", bytes(bad)
    for size in (3, 11, 19, 21, len(good) - 5):
        yield f"GLB: cut off at {size}", "a.glb", bytes(good[:size])


def _texts() -> Iterator[tuple[str, str, bytes]]:
    ring = [f"v {math.cos(k)} {math.sin(k)} 0" for k in range(30_000)]
    yield (
        "OBJ: one polygon of 30,000 corners",
        "a.obj",
        "\n".join([*ring, "f " + " ".join(str(k + 1) for k in range(30_000))]).encode(),
    )
    drawn = random.Random(1)
    wild = [f"v {drawn.random()} {drawn.random()} {drawn.random()}" for _ in range(30_000)]
    yield (
        "OBJ: the same, crossing itself",
        "a.obj",
        "\n".join([*wild, "f " + " ".join(str(k + 1) for k in range(30_000))]).encode(),
    )
    corners = "v 0 0 0\nv 1 0 0\nv 0 1 0\n"
    for number in ("9" * 30, "-" + "9" * 30, "9" * 5000, "0", "-4", "4", "1e3", "//", ""):
        yield f"OBJ: corner {number[:10]} of {len(number)}", "a.obj", f"{corners}f 1 2 {number}\n".encode()
    yield (
        "OBJ: 200,000 groups",
        "a.obj",
        (corners + "".join(f"g {k}\n" for k in range(200_000)) + "f 1 2 3\n").encode(),
    )
    yield "OBJ: a line of 30 MB", "a.obj", ("v " + "1" * 30_000_000).encode()
    yield "OBJ: halves of letters", "a.obj", corners.encode() + b"g \xed\xa0\x80\nf 1 2 3\n"
    yield "OBJ: the other byte order", "a.obj", b"\xfe\xff" + b"\xd8\x00" * 1000
    head = "solid x\nfacet normal 0 0 1\nouter loop\n"
    tail = "vertex 1 0 0\nvertex 0 1 0\nendloop\nendfacet\nendsolid x\n"
    for number in ("1" * 900_000, "1e999999999", "nan", "0x1", "--1", "1_0"):
        yield (
            f"STL: a number {number[:8]} of {len(number)}",
            "a.stl",
            f"{head}vertex {number} 0 0\n{tail}".encode(),
        )
    yield (
        "STL: 300,000 facets that begin",
        "a.stl",
        b"solid x\n" + b"facet normal 0 0 1\n" * 300_000 + b"endsolid",
    )
    yield (
        "PLY: more entries than bytes",
        "a.ply",
        b"ply\nformat ascii 1.0\nelement vertex 99999999999\nend_header\n",
    )
    yield "PLY: a head without end", "a.ply", b"ply\n" + b"comment a\n" * 100_000
    yield (
        "PLY: a list of lists",
        "a.ply",
        b"ply\nformat binary_little_endian 1.0\nelement vertex 1\nproperty list uint uint x\nend_header\n\xff\xff\xff\xff",
    )
    yield (
        "PLY: faces of a thousand million corners",
        "a.ply",
        b"ply\nformat binary_little_endian 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\nelement face 1\nproperty list uint int vertex_indices\nend_header\n"
        + FLOATS
        + b"\x00\xca\x9a\x3b",
    )


def _meshes() -> Iterator[tuple[str, str, bytes]]:
    facet = struct.pack("<12fH", *range(12), 0)
    for count in (0, 1, 2**31, 2**32 - 1):
        yield f"STL: declares {count}, holds two", "a.stl", b"\0" * 80 + struct.pack("<I", count) + facet * 2
    for value in (math.nan, math.inf, -math.inf, 3.4e38):
        yield (
            f"STL: a coordinate {value}",
            "a.stl",
            b"\0" * 80 + struct.pack("<I", 1) + struct.pack("<12fH", 0, 0, 1, value, *range(8), 0),
        )
    yield (
        "STL: 100,000 facets in one place",
        "a.stl",
        b"\0" * 80 + struct.pack("<I", 100_000) + struct.pack("<12fH", *[0] * 12, 0) * 100_000,
    )
    yield "nothing", "a.stl", b""
    yield "a byte", "a.3mf", b"P"
    for name in ("a.stl", "a.obj", "a.3mf", "a.glb", "a.ply", "a.amf", "a.step", "a.heron", "a"):
        drawn = random.Random(name)
        yield f"noise as {name}", name, drawn.randbytes(3000)


def _steps() -> Iterator[tuple[str, str, bytes]]:
    def step(data: bytes) -> bytes:
        return b"ISO-10303-21;\nHEADER;\nENDSEC;\nDATA;\n" + data + b"\nENDSEC;\nEND-ISO-10303-21;\n"

    yield "STEP: nothing in it", "a.step", step(b"")
    for depth in (1000, 60_000):
        yield f"STEP: nested {depth} deep", "a.step", step(b"#1=" + b"A(" * depth + b")" * depth + b";")
    yield "STEP: names itself", "a.step", step(b"#1=CLOSED_SHELL('',(#1,#1,#1));")
    yield (
        "STEP: numbers out of range",
        "a.step",
        step(b"#99999999999999999999=CARTESIAN_POINT('',(1E999,-1E999,0.));"),
    )
    yield "STEP: a string that does not end", "a.step", step(b"#1=CARTESIAN_POINT('" + b"a" * 100_000)
    yield "STEP: only its first line", "a.step", b"ISO-10303-21;"
