"""Supports as section 6 shows them: the picked ones, and variants side by side."""

from __future__ import annotations

import json
from dataclasses import dataclass

import numpy as np

from ....core.supports.byhand.edits import handles, width_of
from ....core.supports.checks.removal import Access, Out
from ....core.supports.model import Branches, Column
from ....sheet.models import ItemSheet
from ....sheet.process import ResinSupports
from ....work.summary import Summary


@dataclass(frozen=True, slots=True)
class PickedLine:
    """One picked support.

    Attributes
    ----------
    id, reason, style, hand : str
    holds : list of str
        What it holds.
    mass_g, seconds, contact_mm2, height_mm : float
    width_mm : float or None
        Of its thickest branch; ``None`` for lines and grids.
    tips : int
        How many ends carry the part; 0 for lines and grids.
    tip_mm, foot_mm, slender : float
        How thick it is below its tips and at its foot, and how many times as high as that.
    lean_deg : float or None
    on_part : bool
    out : str
        How it comes out; empty while that is not known.
    tool_share, show_mm2 : float
    handles : str
        JSON list of what one can take hold of: node, kind and place.
    at_mm : (x, y, z)
    """

    id: str
    reason: str
    style: str
    hand: str
    holds: list[str]
    mass_g: float
    seconds: float
    contact_mm2: float
    height_mm: float
    width_mm: float | None
    tips: int
    tip_mm: float
    foot_mm: float
    slender: float
    lean_deg: float | None
    on_part: bool
    out: str
    tool_share: float
    show_mm2: float
    handles: str
    at_mm: tuple[float, float, float]

    @property
    def trapped(self) -> bool:
        """Whether it cannot be got out."""
        return self.out == Out.TRAPPED


def picked_line(support: Column | Branches, now: Summary) -> PickedLine:
    """Gather what is known of one support."""
    made, sheet = now.supports, now.sheet
    reasons = {p.id: p.reason for p in made.patches} if made else {}
    access = _access_of(support.id, now)
    extra = now.estimate.seconds - now.without.seconds if now.estimate and now.without else 0.0
    share = support.volume_mm3 / max(made.volume_mm3, 1e-9) if made else 0.0
    branch = support if isinstance(support, Branches) else None
    if branch is not None:
        low, high = float(branch.nodes[:, 2].min()), float(branch.nodes[:, 2].max())
        grips = [
            {"node": node, "kind": kind, "at": [round(float(v), 4) for v in branch.nodes[node]]}
            for node, kind in handles(branch).items()
        ]
    else:
        assert isinstance(support, Column)
        low, high = support.slabs[0].low_mm, support.slabs[-1].high_mm
        grips = []
    return PickedLine(
        support.id,
        support.reason,
        support.style,
        support.hand,
        [reasons[p] for p in support.patches if p in reasons],
        support.volume_mm3 * sheet.stuff.density_g_cm3 / 1000.0,
        extra * min(share, 1.0),
        support.contact_mm2,
        high - low,
        round(width_of(branch), 2) if branch is not None else None,
        *_thick(branch),
        branch.lean_deg if branch is not None else None,
        support.on_part,
        access.out if access else "",
        access.tool_share if access else 0.0,
        access.show_mm2 if access else 0.0,
        json.dumps(grips),
        support.touch_mm,
    )


def _thick(branch: Branches | None) -> tuple[int, float, float, float]:
    """Tips, thickness below them and at the foot (mm), and slenderness."""
    if branch is None:
        return 0, 0.0, 0.0, 0.0
    below = [branch.down[tip] for tip in branch.tips if branch.down[tip] >= 0]
    thin = 2 * float(min((branch.nodes[node, 3] for node in below), default=branch.nodes[branch.foot, 3]))
    # The foot itself is spread: what stands on it is as thick as the node above.
    above = branch.nodes[branch.down == branch.foot]
    stem = 2 * float(above[:, 3].max()) if len(above) else 2 * float(branch.nodes[branch.foot, 3])
    high = float(np.ptp(branch.nodes[:, 2]))
    return len(branch.tips), thin, stem, high / max(stem, 1e-9)


def _access_of(support: str, now: Summary) -> Access | None:
    return next((a for a in now.access or () if a.id == support), None)


@dataclass(frozen=True, slots=True)
class VariantLine:
    """One line of the comparison; figures that are still being made are ``None``.

    Attributes
    ----------
    name : str
    words : str
        What sets it apart.
    count : int or None
    mass_g, seconds, contact_mm2, show_mm2, cost : float or None
        Mass and contact of the supports; time and cost of the whole print.
    trapped, unheld : int or None
    seen, spare : float or None
        Of stilts: how many marks are seen, and how much of what pulls at it the weakest tip bears.
    key : str
        Of its supports, for the view; empty while they are being made.
    kept : bool
        It can be taken and dropped.
    """

    name: str
    words: str
    count: int | None
    mass_g: float | None
    seconds: float | None
    contact_mm2: float | None
    show_mm2: float | None
    trapped: int | None
    unheld: int | None
    cost: float | None
    seen: float | None = None
    spare: float | None = None
    key: str = ""
    kept: bool = False


def variant_lines(now: Summary) -> list[VariantLine]:
    """Lines of the comparison: without supports, as they are now, and every variant kept."""
    lines = []
    if now.without is not None:
        bare = now.without
        lines.append(
            VariantLine("without", "no supports", 0, 0.0, bare.seconds, 0.0, 0.0, 0, None, bare.cost, 0.0)
        )
    if now.sheet.supports is not None:
        lines.append(_line("now", now, kept=False))
    lines += [_line(name, one, kept=True) for name, one in now.variants]
    return lines


def _line(name: str, now: Summary, *, kept: bool) -> VariantLine:
    made, access, rough = now.supports, now.access, now.estimate
    weakest = made.weakest[:1] if made else ()
    return VariantLine(
        name,
        _apart(now.sheet),
        len(made.supports) if made else None,
        made.volume_mm3 * now.sheet.stuff.density_g_cm3 / 1000.0 if made else None,
        rough.seconds if rough and made else None,
        made.contact_mm2 if made else None,
        sum(a.show_mm2 for a in access) if access is not None else None,
        sum(a.out == Out.TRAPPED for a in access) if access is not None else None,
        made.unheld if made else None,
        rough.cost if rough and made else None,
        made.marks_seen if made else None,
        weakest[0].bears_n / weakest[0].load_n if weakest else None,
        now.known.address("supports") or "",
        kept,
    )


def _apart(sheet: ItemSheet) -> str:
    """What sets supports apart, in a few words."""
    settings = sheet.supports
    if isinstance(settings, ResinSupports):
        style = f"tips of {settings.tip_mm:g} mm every {settings.spacing_mm:g} mm, bear × {settings.spare:g}"
    else:
        style = settings.style.value if settings and settings.style else "as proposed"
    origin = ", from the plate" if settings and settings.from_plate else ""
    return f"{style}, limit {sheet.limit:g}°{origin}"
