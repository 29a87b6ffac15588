"""Mutated files of every format that is read, and bombs, sent over HTTP and given to the shell."""

from __future__ import annotations

import concurrent.futures
import contextlib
import http.client
import io
import os
import random
import re
import subprocess
import sys
import tempfile
import time
import urllib.parse
import zipfile
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import trimesh

from tests.bombs import bombs, package, zipped
from tests.support import mesh_of, stl, tee
from tests.trial.watched import Tally, Watched, largest_mb, members

Named = tuple[str, str, bytes]
STEP = """ISO-10303-21;
HEADER;
FILE_DESCRIPTION((''),'2;1');
FILE_NAME('a','2026-01-01T00:00:00',(''),(''),'','','');
FILE_SCHEMA(('AUTOMOTIVE_DESIGN'));
ENDSEC;
DATA;
{data}
ENDSEC;
END-ISO-10303-21;
"""


def tetrahedron_step() -> bytes:
    """A tetrahedron of 10 mm with plane faces as STEP, after ISO 10303-21 and -42."""
    corners = [(0, 0, 0), (10, 0, 0), (0, 10, 0), (0, 0, 10)]
    lines: list[str] = []

    def add(text: str) -> int:
        lines.append(f"#{len(lines) + 1}={text};")
        return len(lines)

    points = [add(f"CARTESIAN_POINT('',({x}.,{y}.,{z}.))") for x, y, z in corners]
    vertices = [add(f"VERTEX_POINT('',#{point})") for point in points]
    edges: dict[tuple[int, int], int] = {}
    faces = []
    for ring in ((0, 2, 1), (0, 1, 3), (0, 3, 2), (1, 2, 3)):
        turned = []
        for a, b in zip(ring, ring[1:] + ring[:1], strict=True):
            low, high = min(a, b), max(a, b)
            if (low, high) not in edges:
                way = np.subtract(corners[high], corners[low])
                x, y, z = (way / np.linalg.norm(way)).tolist()
                direction = add(f"DIRECTION('',({x:.9f},{y:.9f},{z:.9f}))")
                vector = add(f"VECTOR('',#{direction},1.)")
                line = add(f"LINE('',#{points[low]},#{vector})")
                edges[low, high] = add(f"EDGE_CURVE('',#{vertices[low]},#{vertices[high]},#{line},.T.)")
            along = ".T." if a < b else ".F."
            turned.append(add(f"ORIENTED_EDGE('',*,*,#{edges[low, high]},{along})"))
        loop = add(f"EDGE_LOOP('',({','.join(f'#{one}' for one in turned)}))")
        bound = add(f"FACE_OUTER_BOUND('',#{loop},.T.)")
        a, b, c = (np.array(corners[k], float) for k in ring)
        normal, across = np.cross(b - a, c - a), (b - a) / np.linalg.norm(b - a)
        n = normal / np.linalg.norm(normal)
        up = add(f"DIRECTION('',({n[0]:.9f},{n[1]:.9f},{n[2]:.9f}))")
        right = add(f"DIRECTION('',({across[0]:.9f},{across[1]:.9f},{across[2]:.9f}))")
        place = add(f"AXIS2_PLACEMENT_3D('',#{points[ring[0]]},#{up},#{right})")
        plane = add(f"PLANE('',#{place})")
        faces.append(add(f"ADVANCED_FACE('',(#{bound}),#{plane},.T.)"))
    shell = add(f"CLOSED_SHELL('',({','.join(f'#{one}' for one in faces)}))")
    solid = add(f"MANIFOLD_SOLID_BREP('',#{shell})")
    metre = add("(LENGTH_UNIT()NAMED_UNIT(*)SI_UNIT(.MILLI.,.METRE.))")
    angle = add("(NAMED_UNIT(*)PLANE_ANGLE_UNIT()SI_UNIT($,.RADIAN.))")
    room = add("(NAMED_UNIT(*)SI_UNIT($,.STERADIAN.)SOLID_ANGLE_UNIT())")
    unsure = add(f"UNCERTAINTY_MEASURE_WITH_UNIT(LENGTH_MEASURE(1.E-6),#{metre},'','')")
    context = add(
        f"(GEOMETRIC_REPRESENTATION_CONTEXT(3)GLOBAL_UNCERTAINTY_ASSIGNED_CONTEXT((#{unsure}))"
        f"GLOBAL_UNIT_ASSIGNED_CONTEXT((#{metre},#{angle},#{room}))REPRESENTATION_CONTEXT('',''))"
    )
    shape = add(f"ADVANCED_BREP_SHAPE_REPRESENTATION('',(#{solid}),#{context})")
    app = add("APPLICATION_CONTEXT('')")
    product_of = add(f"PRODUCT_CONTEXT('',#{app},'mechanical')")
    product = add(f"PRODUCT('a','a','',(#{product_of}))")
    formation = add(f"PRODUCT_DEFINITION_FORMATION('','',#{product})")
    defined_in = add(f"PRODUCT_DEFINITION_CONTEXT('',#{app},'design')")
    definition = add(f"PRODUCT_DEFINITION('','',#{formation},#{defined_in})")
    of_shape = add(f"PRODUCT_DEFINITION_SHAPE('','',#{definition})")
    add(f"SHAPE_DEFINITION_REPRESENTATION(#{of_shape},#{shape})")
    return STEP.format(data="\n".join(lines)).encode()


def sound(server: Watched) -> dict[str, bytes]:
    """A sound file of every format that is read, an archive of a job among them."""
    mesh = mesh_of(tee())
    theirs = trimesh.Trimesh(np.array(mesh.vertices), np.array(mesh.faces), process=False)
    job = server.upload("tee.stl", stl(tee()))
    server.post(f"/api/jobs/{job}/changes", {"kind": "rename", "name": "Reed"})
    server.settle(job)
    connection = http.client.HTTPConnection("127.0.0.1", server.port, timeout=60)
    connection.request("GET", f"/jobs/{job}/whole.heron")
    archive = connection.getresponse().read()
    connection.close()
    text = trimesh.exchange.stl.export_stl_ascii(theirs)
    found = {
        "a.stl": stl(tee()),
        "text.stl": text.encode(),
        "a.obj": theirs.export(file_type="obj").encode(),
        "a.ply": theirs.export(file_type="ply"),
        "text.ply": trimesh.exchange.ply.export_ply(theirs, encoding="ascii"),
        "a.glb": theirs.export(file_type="glb"),
        "a.3mf": _package(theirs),
        "a.amf": _amf(theirs),
        "a.step": tetrahedron_step(),
        "a.heron": archive,
    }
    return {name: bytes(data) for name, data in found.items()}


def _package(mesh: trimesh.Trimesh) -> bytes:
    corners = "".join(f'<vertex x="{x}" y="{y}" z="{z}"/>' for x, y, z in mesh.vertices)
    faces = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"/>' for a, b, c in mesh.faces)
    held = f"<mesh><vertices>{corners}</vertices><triangles>{faces}</triangles></mesh>"
    twice = '<object id="2"><components><component objectid="1"/></components></object>'
    return package(f'<object id="1">{held}</object>{twice}', '<item objectid="2"/>')


def _amf(mesh: trimesh.Trimesh) -> bytes:
    corners = "".join(
        f"<vertex><coordinates><x>{x}</x><y>{y}</y><z>{z}</z></coordinates></vertex>"
        for x, y, z in mesh.vertices
    )
    faces = "".join(f"<triangle><v1>{a}</v1><v2>{b}</v2><v3>{c}</v3></triangle>" for a, b, c in mesh.faces)
    return (
        '<?xml version="1.0"?><amf unit="millimeter"><object id="0"><mesh>'
        f"<vertices>{corners}</vertices><volume>{faces}</volume></mesh></object></amf>"
    ).encode()


NUMBER = re.compile(rb"-?\d+\.?\d*(?:[eE][-+]?\d+)?")
WILD = (
    b"nan",
    b"-1",
    b"0",
    b"1e999",
    b"99999999999999999999",
    b"",
    b"2147483648",
    b"-0.0",
    b"1e-320",
    b"\xff",
)


def mutated(name: str, data: bytes, dice: random.Random) -> bytes:
    """A file with one to four changes; what is packed is sometimes changed inside, and packed again."""
    if data[:2] == b"PK" and dice.random() < 0.7:
        with zipfile.ZipFile(io.BytesIO(data)) as folder:
            entries = {one: folder.read(one) for one in folder.namelist()}
        chosen = dice.choice(sorted(entries))
        entries[chosen] = mutated(chosen, entries[chosen], dice)
        if dice.random() < 0.1:
            entries.pop(dice.choice(sorted(entries)))
        return zipped(entries)
    body = bytearray(data)
    for _ in range(dice.randint(1, 4)):
        _change(body, dice)
    return bytes(body)


def _change(body: bytearray, dice: random.Random) -> None:
    if not body:
        body += dice.randbytes(9)
        return
    at, way = dice.randrange(len(body)), dice.randrange(8)
    long = min(len(body) - at, 2 ** dice.randrange(12))
    if way == 0:
        body[at] ^= 1 << dice.randrange(8)
    elif way == 1:
        del body[at:]
    elif way == 2:
        del body[at : at + long]
    elif way == 3:
        body[at:at] = body[at : at + long]
    elif way == 4:
        body[at : at + long] = dice.randbytes(long)
    elif way == 5:
        other = dice.randrange(len(body))
        body[at : at + long] = body[other : other + long]
    elif way == 6:
        body[at : at + 4] = dice.choice((0, 1, 2**31, 2**32 - 1, 2**16)).to_bytes(4, "little")
    else:
        found = list(NUMBER.finditer(bytes(body[at : at + 4000])))
        if found:
            one = dice.choice(found)
            body[at + one.start() : at + one.end()] = dice.choice(WILD)


def sent(server: Watched, name: str, data: bytes, within_s: float = 60.0) -> tuple[int, str]:
    """Send a file; status and words of the answer, status 0 where there is none in time."""
    connection = http.client.HTTPConnection("127.0.0.1", server.port, timeout=within_s)
    try:
        where = f"/api/jobs?name={urllib.parse.quote(name)}"
        connection.request("POST", where, data, {"Origin": server.url})
        answer = connection.getresponse()
        return answer.status, answer.read(2000).decode(errors="replace")
    except (OSError, http.client.HTTPException) as error:
        return 0, repr(error)
    finally:
        connection.close()


def over_http(server: Watched, files: Sequence[Named], tally: Tally) -> None:
    """Send files, two at a time; each is taken in or refused with words."""

    def one(file: Named) -> None:
        what, name, data = file
        begin = time.monotonic()
        status, words = sent(server, name, data)
        tally.took(time.monotonic() - begin, what)
        if status == 0 or status >= 500 or "did not foresee" in words or "Traceback" in words:
            tally.errors += 1
            tally.worst.append(f"{what}: {status} {words[:160]}")

    with concurrent.futures.ThreadPoolExecutor(2) as pool:
        list(pool.map(one, files))
    # It goes on as if nothing had been.
    if sent(server, "after.stl", stl(tee()))[0] != 201:
        tally.errors += 1
        tally.worst.append("what comes next is not taken in")


def in_shell(files: Sequence[Named], tally: Tally) -> None:
    """Give files to the shell; each is looked at or refused with one line."""
    with tempfile.TemporaryDirectory() as folder, concurrent.futures.ThreadPoolExecutor(2) as pool:
        own = Path(folder) / "tmp"
        own.mkdir()

        def one(numbered: tuple[int, Named]) -> None:
            number, (what, name, data) = numbered
            path = Path(folder) / str(number) / name
            path.parent.mkdir()
            path.write_bytes(data)
            asked = ["inspect", str(path)]
            if name.endswith(".heron"):
                asked = ["import-job", str(path), "--database", str(path.with_suffix(".sqlite3"))]
            command = [sys.executable, "-m", "upright_heron.cli", *asked, "--json"]
            begin = time.monotonic()
            with subprocess.Popen(
                command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, start_new_session=True,
                env={**os.environ, "TMPDIR": str(own)},
            ) as process:  # fmt: skip
                told = None
                while told is None:
                    tally.took_mb(largest_mb(process.pid), what)
                    if time.monotonic() - begin > 60:
                        os.killpg(process.pid, 9)
                    with contextlib.suppress(subprocess.TimeoutExpired):
                        _, told = process.communicate(timeout=0.1)
                tally.took(time.monotonic() - begin, what)
                tally.orphans += len(members(process.pid))
            if process.returncode not in (0, 2) or "Traceback" in told or len(told.splitlines()) > 1:
                tally.traces += 1
                tally.worst.append(f"{what}: {process.returncode} {told.strip()[-160:]}")
            path.unlink()

        list(pool.map(one, enumerate(files)))
        tally.left += len(list(own.iterdir()))


def every_bomb() -> list[Named]:
    """The corpus."""
    return list(bombs())


def every_mutation(server: Watched, count: int, seed: int) -> list[Named]:
    """So many mutated files, in turn of every format."""
    bases = sorted(sound(server).items())
    found = []
    for number in range(count):
        name, data = bases[number % len(bases)]
        dice = random.Random(f"{seed} {number}")
        found.append((f"{name} mutated by {seed} {number}", name, mutated(name, data, dice)))
    return found
