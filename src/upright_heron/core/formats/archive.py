"""Archives from strangers: nothing is unpacked to disk, and nothing beyond a size."""

from __future__ import annotations

import io
import zipfile
import zlib

from ..errors import NotAMesh, TooLarge, TruncatedFile

MOST_BYTES = 2_000_000_000
# Text of meshes packs to a tenth or twentieth; bombs to a thousandth.
MOST_RATIO = 250
MOST_ENTRIES = 10_000


class Archive:
    """A zip archive in memory.

    Parameters
    ----------
    data : bytes

    Raises
    ------
    TruncatedFile
        Not a whole archive.
    NotAMesh
        More than ``MOST_ENTRIES`` entries.
    """

    def __init__(self, data: bytes) -> None:
        # What may be unpacked, of all entries together.
        self._left = min(MOST_BYTES, max(10_000_000, MOST_RATIO * len(data)))
        try:
            self._zip = zipfile.ZipFile(io.BytesIO(data))
        except (zipfile.BadZipFile, OSError, ValueError) as error:
            raise TruncatedFile(
                "The archive is incomplete or damaged.",
                "Copy or download it again; if it stays so, export it again.",
            ) from error
        self.names = self._zip.namelist()
        if len(self.names) > MOST_ENTRIES:
            raise NotAMesh(f"The archive holds {len(self.names):,} files.", "Upload the mesh file alone.")

    def read(self, name: str) -> bytes:
        """Unpack one entry, counted while it unpacks.

        Raises
        ------
        NotAMesh
            No such entry, or one that cannot be unpacked.
        TooLarge
            More than the size or ratio allowed.
        """
        try:
            with self._zip.open(name) as entry:
                data = entry.read(self._left + 1)
        except KeyError as error:
            raise NotAMesh(f"The archive has no “{name[:80]}”.", "Export it again.") from error
        except (
            zipfile.BadZipFile,
            zlib.error,
            OSError,
            NotImplementedError,
            RuntimeError,
            EOFError,
        ) as error:
            raise TruncatedFile(
                f"“{name[:80]}” in the archive cannot be unpacked.",
                "Copy or download it again; if it stays so, export it again.",
            ) from error
        self._left -= len(data)
        if self._left < 0:
            raise TooLarge(
                "The archive unpacks to far more than it should: it was not opened further.",
                "Export it again, or upload the mesh inside it.",
            )
        return data
