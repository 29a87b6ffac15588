"""Bytes that must be kept, under the digest of what they hold: meshes, marks, supports changed by hand."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import delete, select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from ..core.errors import BadValue
from ..core.geometry.mesh import Mesh
from ..core.supports.model import Branches, Column
from ..core.supports.support_set import shifted
from .codec import decode, encode
from .database import Database, NotFound
from .models import BlobRow, StepRow

# How documents name blobs; other digests in them do no harm, they only keep what nobody needs.
DIGEST = re.compile(r'"([0-9a-f]{32})"')
# Fields that name a blob which has to be there.
_NEEDED = re.compile(r'"(?:mesh|digest|kept|around)": ?"([0-9a-f]{32})"')


class Blobs(Database):
    """The blobs of a database."""

    def keep_mesh(self, mesh: Mesh) -> str:
        """Keep a mesh for good and return its digest."""
        try:
            with self.session(write=True) as s:
                if s.get(BlobRow, mesh.digest) is None:
                    s.add(BlobRow(digest=mesh.digest, data=encode(mesh)))
        except IntegrityError:
            pass  # another request kept the same mesh at the same moment
        return mesh.digest

    def keep_marks(self, marks: NDArray[np.uint8]) -> str:
        """Keep the marks of a part for good and return their digest."""
        digest = hashlib.blake2b(marks.tobytes(), digest_size=16).hexdigest()
        with self.session(write=True) as s:
            if s.get(BlobRow, digest) is None:
                s.add(BlobRow(digest=digest, data=encode(marks)))
        return digest

    def marks(self, digest: str) -> NDArray[np.uint8]:
        """Fetch the marks of a part.

        Raises
        ------
        NotFound
            No such marks.
        """
        marks: NDArray[np.uint8] = self._blob(digest, "There are no such marks.")
        return marks

    def keep_supports(self, supports: Sequence[Column | Branches]) -> str:
        """Keep supports that were made or changed by hand for good and return their digest."""
        data = encode(tuple(supports))
        digest = hashlib.blake2b(data, digest_size=16).hexdigest()
        with self.session(write=True) as s:
            if s.get(BlobRow, digest) is None:
                s.add(BlobRow(digest=digest, data=data))
        return digest

    def supports(self, digest: str) -> tuple[Column | Branches, ...]:
        """Fetch supports that were made or changed by hand.

        ``digest@x,y`` moves them by (-x, -y): those of a time when their origin was that of the plate.

        Raises
        ------
        NotFound
            No such supports.
        """
        name, _, origin = digest.partition("@")
        found: tuple[Column | Branches, ...] = self._blob(name, "There are no such supports.")
        if origin:
            x, y = (float(v) for v in origin.split(","))
            found = tuple(shifted(support, -x, -y) for support in found)
        return found

    def _blob(self, digest: str, missing: str) -> Any:
        with self.session() as s:
            row = s.get(BlobRow, digest)
            if row is None:
                raise NotFound(missing, "Reload the page.")
            data = row.data
        return decode(data)

    def mesh(self, digest: str) -> Mesh:
        """Fetch a mesh.

        Raises
        ------
        NotFound
            No such mesh.
        """
        mesh: Mesh = self._blob(digest, "There is no such mesh.")
        return mesh

    @staticmethod
    def refuse_missing(s: Session, sheet: str, before: str) -> None:
        """Refuse a sheet that names what is not here, as only a program that makes changes by itself can.

        Parameters
        ----------
        s : Session
        sheet, before : str
            JSON of the sheet that is to be kept, and of the one before: what that names is not looked for.

        Raises
        ------
        BadValue
        """
        new = set(_NEEDED.findall(sheet)) - set(DIGEST.findall(before))
        if new and (gone := new - set(s.scalars(select(BlobRow.digest).where(BlobRow.digest.in_(new))))):
            raise BadValue(
                f"{min(gone)} is named, and is not here.", "Take in the file that it comes from first."
            )

    def collect(self) -> int:
        """Forget blobs that no step of any job names, and return how many.

        For the start of the server, when nobody is between keeping a blob and the step that names it.
        """
        with self.session(write=True) as s:
            named: set[str] = set()
            for text in s.scalars(select(StepRow.sheet).execution_options(yield_per=200)):
                named.update(DIGEST.findall(text))
            gone = [digest for digest in s.scalars(select(BlobRow.digest)) if digest not in named]
            for digest in gone:
                s.execute(delete(BlobRow).where(BlobRow.digest == digest))
            return len(gone)
