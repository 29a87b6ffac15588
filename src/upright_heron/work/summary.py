"""All that is known of a job right now, gathered from what is remembered, without making anything."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any, Protocol

from ..core.footing.footing import Footing, FootingKind
from ..core.handoff.preflight import Check, Weight, preflight
from ..core.hanging.findings import Finding, listed
from ..core.hanging.overhang_regions import Region
from ..core.health.report import Report
from ..core.marking.channels import Channel
from ..core.plates.fit import Fit, fit
from ..core.split.grid import Split
from ..core.stance.figures import Figures
from ..core.stance.resting import RestingFace
from ..core.stance.search import Found
from ..core.supports.checks.removal import Access, Out
from ..core.supports.model import SupportSet
from ..core.toolpaths.rough_estimate import Estimate, estimate
from ..sheet.models import JobSheet
from ..sheet.process import Second as SecondPrints
from .keys import as_variant, keys
from .values import Findings, Placed


class Remembered(Protocol):
    """Whatever remembers results: the store, or a cache before it."""

    def result(self, key: str) -> Any | None:
        """A remembered result, or ``None``."""


@dataclass(frozen=True, slots=True)
class Second:
    """What a second nozzle prints of supports.

    Attributes
    ----------
    material : str
    mass_g : float
    extra_cost : float
        Over what the same volume costs in the material of the part.
    """

    material: str
    mass_g: float
    extra_cost: float


@dataclass(frozen=True, eq=False)
class Summary:
    """All that is known of a job right now; what is still being made is ``None``.

    Attributes
    ----------
    sheet : JobSheet
    placed : Placed or None
    fit : Fit or None
    findings : Findings or None
    supports : SupportSet or None
    footing : Footing or None
    split : Split or None
    resting : tuple of RestingFace or None
    estimate : Estimate or None
    health : Report or None
    preflight : list of Check
        Of all parts of the job.
    figures : Figures or None
    found : Found or None
        Proposed stances; weighed ones while the exact ones are being made.
    hangs : tuple of Region or None
    listed : list of Finding or None
        Everything that may fail in the stance, with what has become of it.
    channels : tuple of Channel or None
    without : Estimate or None
        As if there were no supports.
    access : tuple of Access or None
        How each support is got at.
    variants : list of (str, str, Summary)
        Name, key of the supports and summary of each variant that is kept.
    second : Second or None
        What the second nozzle prints of the supports.
    parts : list of Summary
        Of each part in their order, where the job has several; without preflight of their own.
    """

    sheet: JobSheet
    placed: Placed | None
    fit: Fit | None
    findings: Findings | None
    supports: SupportSet | None
    footing: Footing | None
    split: Split | None
    resting: tuple[RestingFace, ...] | None
    estimate: Estimate | None
    health: Report | None
    preflight: list[Check]
    second: Second | None = None
    parts: list[Summary] = field(default_factory=list)
    access: tuple[Access, ...] | None = None
    variants: list[tuple[str, str, Summary]] = field(default_factory=list)
    figures: Figures | None = None
    found: Found | None = None
    hangs: tuple[Region, ...] | None = None
    listed: list[Finding] | None = None
    channels: tuple[Channel, ...] | None = None
    without: Estimate | None = None

    @property
    def whole(self) -> tuple[float, float] | None:
        """Seconds and grams of all parts, one after the other; ``None`` while one is not known."""
        known = [part.estimate for part in self.parts or [self]]
        if any(e is None for e in known):
            return None
        return sum(e.seconds for e in known if e), sum(e.mass_g for e in known if e)


def summary(sheet: JobSheet, store: Remembered) -> Summary:
    """Gather what is remembered for a sheet, without making anything."""
    own = _summary(sheet, store)
    if sheet.variants:
        as_kept = [(kept.name, as_variant(sheet, kept)) for kept in sheet.variants]
        own = replace(
            own,
            variants=[(name, keys(one).get("supports", ""), _summary(one, store)) for name, one in as_kept],
        )
    if not sheet.others:
        return own
    parts = [own if one.at == sheet.at else _summary(one, store) for one in sheet.each]
    checks = [
        replace(finding, text=f"Part {number}: {finding.text}", part=number - 1)
        for number, part in enumerate(parts, 1)
        for finding in part.preflight
    ]
    return replace(own, preflight=sorted(checks, key=lambda f: f.weight is not Weight.WRONG), parts=parts)


def _summary(sheet: JobSheet, store: Remembered) -> Summary:
    found = keys(sheet)

    def known(name: str) -> Any:
        return store.result(found[name]) if name in found else None

    placed, findings, supports = known("placed"), known("findings"), known("supports")
    footing, split = known("footing"), known("split")
    room = None
    if placed is not None:
        x, y, z = placed.size_mm
        raised = footing.raise_mm if footing is not None else 0.0
        room = fit((x, y, z + sheet.lift_mm + raised), sheet.machine.build_mm)
    ready = findings is not None and (sheet.supports is None or supports is not None)
    rough = without = None
    if findings is not None:
        volume = abs(sheet.part.volume_mm3)
        every = sheet.supports.every if sheet.supports is not None else 1
        above = footing.layers if footing is not None and footing.raise_mm > 0 else 0
        rough, without = (
            estimate(
                sheet.machine,
                sheet.stuff,
                volume_mm3=volume,
                area_mm2=sheet.part.area_mm2,
                support_mm3=held_mm3,
                footing_mm3=footing.volume_mm3 if footing is not None else 0.0,
                layers=findings.layer_count + round(sheet.lift_mm / sheet.layer_mm) + above,
                layer_mm=sheet.layer_mm,
                walls=sheet.process.walls,
                infill=sheet.process.infill_percent / 100.0,
                support_share=1.0,
                thick_mm3=supports.thick_mm3(every) if supports is not None and held_mm3 else 0.0,
                every=every,
            )
            for held_mm3 in (supports.volume_mm3 if supports is not None else 0.0, 0.0)
        )
    if not ready:
        rough = None
    second = _second(sheet, supports)
    if second is not None and rough is not None:
        rough = replace(rough, cost=rough.cost + second.extra_cost)
    hangs, held, marked = known("hangs"), known("holding"), known("marked")
    all_found = None
    if findings is not None and hangs is not None and (sheet.supports is None or held is not None):
        all_found = listed(
            replace(findings.walked, regions=hangs),
            limit_deg=sheet.limit,
            bridge_mm=sheet.bridge_mm,
            material=sheet.stuff.name,
            resin=sheet.is_resin,
            holding=dict(held.by) if held is not None else None,
            accepted=sheet.accepted,
            propped=frozenset(marked.propped if marked is not None else ()),
            kept_clear=frozenset(marked.kept_clear if marked is not None else ()),
        )
    checks = (
        preflight(
            closed=sheet.part.closed,
            fit=room,
            is_split=sheet.grid is not None,
            technology=sheet.machine.technology,
            contact_area_mm2=findings.contact_area_mm2 if findings is not None else None,
            lifted=sheet.lift_mm > 0,
            findings=all_found,
            has_supports=sheet.supports is not None,
            has_footing=sheet.footing.kind in (FootingKind.BRIM, FootingKind.RAFT),
            faults=supports.faults if supports is not None else (),
            trapped=sum(a.out == Out.TRAPPED for a in known("access") or ()),
        )
        if room is not None
        else []
    )
    return Summary(
        sheet,
        placed,
        room,
        findings,
        supports,
        footing,
        split,
        known("resting"),
        rough,
        known("health"),
        checks,
        figures=known("figures"),
        found=known("search") or known("first"),
        hangs=hangs,
        listed=all_found,
        channels=known("channels"),
        without=without,
        second=second,
        access=known("access"),
    )


def _second(sheet: JobSheet, supports: SupportSet | None) -> Second | None:
    if supports is None or sheet.supports is None or not sheet.second_prints:
        return None
    whole = sheet.supports.second is SecondPrints.ALL
    volume = supports.volume_mm3 if whole else supports.interface_mm3
    stuff = sheet.second_stuff
    mass = volume * stuff.density_g_cm3 / 1000.0
    own = volume * sheet.stuff.density_g_cm3 / 1000.0
    extra = (mass * stuff.price_per_kg - own * sheet.stuff.price_per_kg) / 1000.0
    return Second(stuff.name, mass, extra)
