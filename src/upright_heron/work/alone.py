"""A part by itself: the graph on a surface at hand, without a store. For the shell, benchmarks and tests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..core.geometry.mesh import Mesh, facts
from ..core.geometry.subdivision import Fine
from ..core.graph import Ref, Source
from ..core.keys import Keys
from ..core.machines.catalogue import material, materials_for, printer
from ..core.maker import Maker, Recent
from ..core.marking.marks import Marks
from ..core.progress import Progress, silent
from ..core.recipes.part import MARKS_DEMAND, MARKS_SHOW, MESH
from ..sheet.item import Item, Stance
from ..sheet.models import ItemSheet, JobSheet
from ..sheet.part import Part
from .bind import ItemBinding


def part_of(mesh: Mesh, name: str = "part.stl") -> Part:
    """Describe a surface that is at hand."""
    known = facts(mesh)
    return Part(
        file_name=name,
        mesh=mesh.digest,
        facets=known.facets,
        size_mm=known.size_mm,
        volume_mm3=known.volume_mm3,
        area_mm2=known.area_mm2,
        closed=known.closed,
        shells=known.shells,
        open_edges=known.edges.open,
    )


class Alone:
    """A part as an item of a job that is kept nowhere.

    Parameters
    ----------
    mesh : Mesh
    printer_name, material_name : str
        Of the demo workshop; without a material the printer's first.
    item : mapping, optional
        What is decided for the item: fields of ``sheet.item.Item``.
    job : mapping, optional
        What is decided for the job: fields of ``sheet.models.JobSettings``.
    given : sequence, optional
        Settings of recipes that count instead of those of the sheet.
    marks : (m,) uint8, optional
        What is painted, a byte for each facet of the fine mesh.
    progress : Progress
    """

    def __init__(
        self,
        mesh: Mesh,
        printer_name: str = "Sedge 300",
        material_name: str = "",
        *,
        item: Mapping[str, Any] | None = None,
        job: Mapping[str, Any] | None = None,
        given: Sequence[object] = (),
        marks: Marks | None = None,
        progress: Progress = silent,
    ) -> None:
        self.mesh = mesh
        machine = printer(printer_name)
        stuff = material(material_name) if material_name else materials_for(machine)[0]
        settings = {"printer": machine.name, "material": stuff.name, "layer_mm": machine.layer_mm}
        only = Item.model_validate({"stance": Stance(), **(item or {}), "id": "alone", "part": part_of(mesh)})
        self.sheet: ItemSheet = JobSheet.of([only], **{"name": "Part", **settings, **(job or {})}).on()
        self._given = {type(one): one for one in given}
        self._marks = marks
        self._binding = ItemBinding(self.sheet)
        self.keys = Keys(self)
        everything = Recent(1_000_000)
        self.maker = Maker(self._load, everything, at_hand=everything, progress=progress)

    def settings(self, kind: type) -> object | None:
        """As ``Binding``."""
        return self._given[kind] if kind in self._given else self._binding.settings(kind)

    def source(self, source: Source[Any]) -> Ref | None:
        """As ``Binding``."""
        if source in (MARKS_DEMAND, MARKS_SHOW):
            return Ref("painted", "painted") if self._marks is not None else None
        return self._binding.source(source)

    def each(self) -> Sequence[Alone]:
        """As ``Binding``."""
        return ()

    def _load(self, source: Source[Any], digest: str) -> Any:
        return self.mesh if source is MESH else self._marks

    def make(self, name: str) -> Any:
        """Make one result."""
        return self.maker.make(self.keys, name)

    @property
    def fine(self) -> Fine:
        """The mesh that marks are painted on."""
        found: Fine = self.make("fine")
        return found

    @property
    def moved_mm(self) -> NDArray[np.float64]:
        """How far (3,) results lie from where the part stands in its file, in their own frame."""
        offset: NDArray[np.float64] = self.make("placement").offset_mm
        return offset
