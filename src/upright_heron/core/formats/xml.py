"""XML from strangers: no document types, no entities, no references out of the file, bounded depth."""

from __future__ import annotations

from collections.abc import Callable
from xml.parsers import expat

from ..errors import NotAMesh, TruncatedFile
from .contents import EXPORT_AGAIN

DEEPEST = 64

Start = Callable[[str, dict[str, str]], None]
End = Callable[[str], None]


def parse(data: bytes, start: Start, end: End, text: Callable[[str], None] | None = None) -> None:
    """Walk through a document.

    Parameters
    ----------
    data : bytes
    start, end : callable
        Called with the local name of each element, and its attributes with theirs: namespaces are left out.
    text : callable, optional
        Called with stretches of text.

    Raises
    ------
    NotAMesh
        A document type, an entity or more than ``DEEPEST`` levels.
    TruncatedFile
        Not well-formed.
    """
    parser = expat.ParserCreate(namespace_separator=" ")
    parser.buffer_text = True
    depth = 0

    def refuse(*_: object) -> None:
        raise NotAMesh(
            "The file declares a document type or entities, which is not done in mesh files.", EXPORT_AGAIN
        )

    def begin(name: str, attributes: dict[str, str]) -> None:
        nonlocal depth
        depth += 1
        if depth > DEEPEST:
            raise NotAMesh(f"The file nests its elements more than {DEEPEST} deep.", EXPORT_AGAIN)
        start(name.rpartition(" ")[2], {key.rpartition(" ")[2]: value for key, value in attributes.items()})

    def finish(name: str) -> None:
        nonlocal depth
        depth -= 1
        end(name.rpartition(" ")[2])

    parser.StartDoctypeDeclHandler = refuse
    parser.EntityDeclHandler = refuse
    parser.StartElementHandler = begin
    parser.EndElementHandler = finish
    if text is not None:
        parser.CharacterDataHandler = text
    try:
        parser.Parse(data, True)
    except expat.ExpatError as error:
        raise TruncatedFile(
            f"The text of the file breaks off or is damaged at line {error.lineno}.",
            "Copy or download it again; if it stays so, export it again.",
        ) from error
    except (ValueError, LookupError) as error:
        # Encodings that the parser knows by name only.
        raise NotAMesh("The text of the file is in an encoding that is not read.", EXPORT_AGAIN) from error
