"""Binary glTF 2.0 before it is read: what it comes to is counted, and what is no surface is left out.

Reference: Khronos Group, glTF 2.0 specification, chapters 3.5 to 3.7 (nodes, buffers, accessors) and 4 (GLB).
"""

from __future__ import annotations

import json
from typing import Any

from ..errors import NotAMesh, TooLarge, TruncatedFile
from .contents import EXPORT_AGAIN

DAMAGED = "Copy or download it again; if it stays so, export it again."
# What a file may come to: a mesh of as many facets fills a gigabyte on its way in.
MOST_FACETS = 6_000_000
MOST_OBJECTS = 20_000
DEEPEST = 64
# Bytes of a number by its type, and numbers of a value.
_BYTES = {5120: 1, 5121: 1, 5122: 2, 5123: 2, 5125: 4, 5126: 4}
_NUMBERS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
_TRIANGLES = (4, 5, 6)
# All that meshes and their places are made of.
_KEPT = ("asset", "scene", "scenes", "nodes", "meshes", "accessors", "bufferViews", "buffers")


def lightened(data: bytes) -> bytes:
    """The file with its surfaces alone: no picture is ever unpacked, and nothing made that was not counted.

    Parameters
    ----------
    data : bytes
        GLB.

    Returns
    -------
    bytes
        GLB.

    Raises
    ------
    BadFile
        Damaged, packed in a way that is not read, with nodes in a circle, or coming to more than is taken in.
    """
    if len(data) < 20 or int.from_bytes(data[8:12], "little") > len(data):
        raise TruncatedFile("The GLB file ends early.", DAMAGED)
    size = int.from_bytes(data[12:16], "little")
    try:
        tree = json.loads(data[20 : 20 + size])
        kept = {name: tree[name] for name in _KEPT if name in tree}
        for mesh in kept.get("meshes", ()):
            mesh["primitives"] = [_bare(primitive) for primitive in mesh["primitives"]]
        _count(kept, len(data))
    except (ValueError, KeyError, TypeError, IndexError, AttributeError, RecursionError) as error:
        raise TruncatedFile("The GLB file is damaged.", DAMAGED) from error
    text = json.dumps(kept).encode()
    text += b" " * (-len(text) % 4)
    rest = data[20 + size :]
    whole = 20 + len(text) + len(rest)
    head = data[:8] + whole.to_bytes(4, "little") + len(text).to_bytes(4, "little") + b"JSON"
    return head + text + rest


def _bare(primitive: dict[str, Any]) -> dict[str, Any]:
    if "KHR_draco_mesh_compression" in primitive.get("extensions", {}):
        raise NotAMesh("The meshes of the file are packed in a way that is not read.", EXPORT_AGAIN)
    bare: dict[str, Any] = {name: primitive[name] for name in ("indices", "mode") if name in primitive}
    return bare | {"attributes": {"POSITION": primitive["attributes"]["POSITION"]}}


def _count(tree: dict[str, Any], held: int) -> None:
    """Count what a file comes to, whatever names what how often."""
    counts = [_entries(accessor, held) for accessor in tree.get("accessors", ())]

    def of_primitive(primitive: dict[str, Any]) -> int:
        corners: int = counts[primitive["attributes"]["POSITION"]]
        used: int = counts[primitive["indices"]] if "indices" in primitive else corners
        # Strips and fans have a facet for each corner but two.
        facets = used // 3 if primitive.get("mode", 4) == 4 else used
        return max(facets, corners // 3) if primitive.get("mode", 4) in _TRIANGLES else corners // 3

    meshes = [sum(of_primitive(one) for one in mesh["primitives"]) for mesh in tree.get("meshes", ())]
    nodes: list[dict[str, Any]] = tree.get("nodes", [])
    sizes: dict[int, tuple[int, int]] = {}

    def size(number: int, depth: int) -> tuple[int, int]:
        if depth > DEEPEST:
            raise NotAMesh("The nodes of the file contain each other in a circle.", EXPORT_AGAIN)
        if number not in sizes:
            node = nodes[number]
            each = [size(child, depth + 1) for child in node.get("children", ())]
            own = meshes[node["mesh"]] if "mesh" in node else 0
            sizes[number] = (1 + sum(o for o, _ in each), own + sum(f for _, f in each))
        return sizes[number]

    # Nodes that no scene shows are walked through as well.
    for number in range(len(nodes)):
        size(number, 0)
    roots = [size(number, 0) for scene in tree.get("scenes", ()) for number in scene.get("nodes", ())]
    objects, facets = max(len(nodes), sum(o for o, _ in roots)), sum(f for _, f in roots)
    if objects > MOST_OBJECTS or facets > MOST_FACETS:
        told = f"{facets:,} facets" if facets > MOST_FACETS else f"{objects:,} objects"
        raise TooLarge(f"The file comes to {told}.", "Put fewer copies in it: they can be made here.")


def _entries(accessor: dict[str, Any], held: int) -> int:
    """How many values an accessor has; no more than there is room for in the file."""
    count = accessor["count"]
    if not isinstance(count, int) or count < 0:
        raise ValueError(count)
    if count and ("bufferView" not in accessor or "sparse" in accessor):
        raise NotAMesh("The file has corners without numbers.", EXPORT_AGAIN)
    if count * _BYTES[accessor["componentType"]] * _NUMBERS[accessor["type"]] > held:
        raise TruncatedFile("The GLB file ends before its numbers do.", DAMAGED)
    return count
