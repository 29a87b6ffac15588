"""Writing 3MF: objects in millimetres after the 3MF Core Specification 1.x (3MF Consortium)."""

from __future__ import annotations

import io
import uuid
import zipfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from types import MappingProxyType
from xml.sax.saxutils import quoteattr

from ..errors import BadValue
from ..formats.threemf import MARKS, WORDS
from ..geometry.mesh import Mesh
from ..marking.marks import Marks
from ..stance.pose import about_axis
from ..tags import stored

CORE = "http://schemas.microsoft.com/3dmanufacturing/core/2015/02"
PRODUCTION = "http://schemas.microsoft.com/3dmanufacturing/production/2015/06"
# Names made from content are made under this one.
_OURS = uuid.UUID("5b0f7d0e-2c58-4f0b-9d7a-8e1f6c3a4b21")
OBJECT_TYPES = ("model", "solidsupport", "support", "surface", "other")

_CONTENT_TYPES = (
    '<?xml version="1.0" encoding="UTF-8"?>'
    '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
    '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
    '<Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/>'
    '<Default Extension="png" ContentType="image/png"/>'
    "</Types>"
)
_RELATIONSHIPS = (
    '<?xml version="1.0" encoding="UTF-8"?>'
    '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
    '<Relationship Target="/3D/3dmodel.model" Id="rel0"'
    ' Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/>'
    "{}</Relationships>"
)
# Open Packaging Conventions: the picture of a package.
_THUMBNAIL = (
    '<Relationship Target="/Metadata/thumbnail.png" Id="rel1"'
    ' Type="http://schemas.openxmlformats.org/package/2006/relationships/metadata/thumbnail"/>'
)
# One fixed stamp in the archive, so that the same job gives the same bytes.
_STAMP = (2020, 1, 1, 0, 0, 0)


class Role(StrEnum):
    """What an object of the file is to the print."""

    PART = "part"
    SUPPORT = "support"
    FOOTING = "footing"


@stored("file-object")
@dataclass(frozen=True, eq=False)
class FileObject:
    """One object of the file.

    Attributes
    ----------
    name : str
    mesh : Mesh
        In build coordinates, mm.
    type : str
        One of ``OBJECT_TYPES``.
    marks : (m,) uint8, optional
        What is painted on each facet, see docs/marks.md.
    role : Role
    """

    name: str
    mesh: Mesh
    type: str = "model"
    marks: Marks | None = None
    role: Role = Role.PART


@dataclass(frozen=True, slots=True)
class Spot:
    """Where a copy of an object stands: swung about z by degrees first, then moved by mm."""

    x_mm: float
    y_mm: float
    swing_deg: float

    @property
    def transform(self) -> str:
        """As the format writes it: rows of a matrix for row vectors, then the way."""
        turn = about_axis("z", self.swing_deg)
        values = [*turn.T.ravel().tolist(), self.x_mm, self.y_mm, 0.0]
        return " ".join(f"{value + 0.0:.12g}" for value in values)


def write_3mf(
    items: Sequence[FileObject],
    title: str,
    thumbnail: bytes = b"",
    spots: Mapping[int, Sequence[Spot]] = MappingProxyType({}),
) -> bytes:
    """Write objects as a 3MF package; each is also an item of the build, or several.

    Parameters
    ----------
    items : sequence of FileObject
        Empty meshes are left out.
    title : str
    thumbnail : bytes, optional
        Picture of the whole, as PNG.
    spots : mapping of int to sequence of Spot, optional
        Where copies of an object stand, by its place among ``items``; others stand once, as they are.

    Returns
    -------
    bytes

    Raises
    ------
    BadValue
        Nothing to write, or an unknown object type.
    """
    kept = [(item, spots.get(k, ())) for k, item in enumerate(items) if len(item.mesh.faces)]
    if not kept:
        raise BadValue("There is nothing to hand off: no object has a surface.", "Take a part in first.")
    for item, _ in kept:
        if item.type not in OBJECT_TYPES:
            raise BadValue(
                f"There is no object type “{item.type}” in 3MF.", f"Use one of: {', '.join(OBJECT_TYPES)}."
            )
    return packed_model(_model(kept, title), thumbnail)


def packed_model(texts: Iterable[str], thumbnail: bytes = b"") -> bytes:
    """Put the text of a model, in stretches, into a package with all that goes round it, and a PNG of it."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED, compresslevel=3) as package:
        package.writestr(zipfile.ZipInfo("[Content_Types].xml", _STAMP), _CONTENT_TYPES, zipfile.ZIP_DEFLATED)
        relationships = _RELATIONSHIPS.format(_THUMBNAIL if thumbnail else "")
        package.writestr(zipfile.ZipInfo("_rels/.rels", _STAMP), relationships, zipfile.ZIP_DEFLATED)
        if thumbnail:
            package.writestr(zipfile.ZipInfo("Metadata/thumbnail.png", _STAMP), thumbnail)
        info = zipfile.ZipInfo("3D/3dmodel.model", _STAMP)
        info.compress_type = zipfile.ZIP_DEFLATED
        with package.open(info, "w") as part:
            for text in texts:
                part.write(text.encode())
    return buffer.getvalue()


def _model(kept: Sequence[tuple[FileObject, Sequence[Spot]]], title: str) -> Iterator[str]:
    items = [item for item, _ in kept]
    ours = f' xmlns:heron="{MARKS}"' if any(item.marks is not None for item in items) else ""
    yield (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        f'<model unit="millimeter" xml:lang="en" xmlns="{CORE}" xmlns:p="{PRODUCTION}"{ours}>\n'
        f'<metadata name="Title">{text_of(title)}</metadata>\n'
        '<metadata name="Application">Upright Heron</metadata>\n<resources>\n'
    )
    # Names follow from what is in the file: the same makes the same file, byte for byte.
    own = [f"{number} {item.name} {item.mesh.digest}" for number, item in enumerate(items, 1)]
    for number, item in enumerate(items, 1):
        name = quoteattr(clean(item.name))
        tracked = _uuid("object", own[number - 1])
        yield f'<object id="{number}" type="{item.type}" name={name} p:UUID="{tracked}">\n'
        yield from surface(item.mesh, item.marks)
        yield "</object>\n"
    yield f'</resources>\n<build p:UUID="{_uuid("build", title, *own)}">\n'
    for number, (told, (_, spots)) in enumerate(zip(own, kept, strict=True), 1):
        if not spots:
            yield f'<item objectid="{number}" p:UUID="{_uuid("item", title, told)}"/>\n'
        for copy, spot in enumerate(spots, 1):
            tracked = _uuid("item", title, told, str(copy))
            yield f'<item objectid="{number}" transform="{spot.transform}" p:UUID="{tracked}"/>\n'
    yield "</build>\n</model>\n"


def _uuid(*told: str) -> uuid.UUID:
    return uuid.uuid5(_OURS, clean("\n".join(told)))


def surface(mesh: Mesh, marks: Marks | None = None) -> Iterator[str]:
    """A mesh as the content of an object, in stretches, with what is painted on its facets."""
    yield "<mesh>\n<vertices>\n"
    # Nine digits keep every single-precision number, and so the resolution of the files parts come in.
    yield from _chunks(mesh.vertices.tolist(), '<vertex x="%.9g" y="%.9g" z="%.9g"/>\n')
    yield "</vertices>\n<triangles>\n"
    if marks is None:
        yield from _chunks(mesh.faces.tolist(), '<triangle v1="%d" v2="%d" v3="%d"/>\n')
    else:
        said = {mark: f' heron:mark="{word}"' for mark, word in WORDS.items()}
        rows = zip(mesh.faces.tolist(), marks.tolist(), strict=True)
        yield from _chunks(
            [[*face, said.get(mark, "")] for face, mark in rows],
            '<triangle v1="%d" v2="%d" v3="%d"%s/>\n',
        )
    yield "</triangles>\n</mesh>\n"


def _chunks(rows: Sequence[Sequence[float | str]], form: str, size: int = 20000) -> Iterator[str]:
    for start in range(0, len(rows), size):
        yield "".join([form % tuple(row) for row in rows[start : start + size]])


def clean(text: str) -> str:
    """A text without what XML 1.0 has no place for."""
    # XML 1.0 has no place for control characters; names of files can hold any.
    return "".join(c for c in text if c >= " " and c not in "\ufffe\uffff" and not 0xD800 <= ord(c) <= 0xDFFF)


def text_of(text: str) -> str:
    """A text as it is written between tags."""
    return clean(text).replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
