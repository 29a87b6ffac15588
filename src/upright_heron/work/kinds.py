"""Kinds of machines and materials: those that everybody knows, and those of the shop."""

from __future__ import annotations

from ..core.machines.catalogue import MATERIALS, PRINTERS, Material, Printer
from ..sheet.shop import OwnMaterial, OwnPrinter
from ..store.store import Store


def kinds_of_machines(store: Store) -> dict[str, Printer]:
    """Kinds of machines by name; those of the shop in place of others of the same name."""
    own = (one.core() for one in store.shelf(OwnPrinter))
    return {one.name: one for one in (*PRINTERS, *own)}


def kinds_of_materials(store: Store) -> dict[str, Material]:
    """Materials by name; those of the shop in place of others of the same name."""
    own = (one.core() for one in store.shelf(OwnMaterial))
    return {one.name: one for one in (*MATERIALS, *own)}
