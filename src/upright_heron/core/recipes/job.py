"""What is told of an item as a whole: whether it fits, what it takes, what hangs, and what is doubtful."""

from __future__ import annotations

from collections.abc import Sequence

from ..footing.footing import HOLDS_DOWN, Footing
from ..footing.under_drains import UnderDrains, under_drains
from ..graph import Keep, maybe, recipe
from ..handoff.preflight import Check, HollowPart, Standing, Surface, preflight
from ..hanging.findings import State
from ..hanging.findings import listed as in_one_list
from ..hanging.overhang_regions import Region
from ..hanging.pools import Pool
from ..health.report import Report
from ..plates.extent import Extent
from ..plates.fit import Fit, fit_of
from ..plates.fit import fit as fit_of_size
from ..stance.pose import Placement
from ..stance.steadiness import Steadiness
from ..supports.checks.removal import Access, Out
from ..supports.support_set import SupportSet
from ..toolpaths.rough_estimate import Amounts, Estimate, SecondNozzle, second_nozzle, with_cost
from ..toolpaths.rough_estimate import estimate as estimate_of
from .footing import footing
from .hanging import all_hanging, findings, hangs, marked, pools
from .part import health
from .plate import extent
from .settings import BuildVolume, Choices, Costing, Drilled, Lift, Listing, PartFacts
from .stance import placed, placement, steadiness
from .supports_filament import filament_supports
from .supports_resin import access, holding, supports
from .values import Brief, Findings, Holding, Listed, Marked, Placed


@recipe(
    "fit", version=2, needs=(placed, maybe(extent)), reads=(BuildVolume, Lift), keep=Keep.LIGHT, partial=True
)
def fit(size: Placed, printed: Extent | None, room: BuildVolume, lift: Lift) -> Fit:
    """How all that is printed stands to the build volume; the part alone while the rest is being made."""
    if printed is not None:
        return fit_of(printed, room.build_mm)
    x, y, z = size.size_mm
    return fit_of_size((x, y, z + lift.mm), room.build_mm)


@recipe(
    "listed",
    version=4,
    needs=(findings, hangs, pools, maybe(holding), maybe(marked), maybe(filament_supports)),
    reads=Listing,
    keep=Keep.LIGHT,
)
def listed(
    found: Findings,
    regions: tuple[Region, ...],
    kept: tuple[Pool, ...],
    held: Holding | None,
    painted: Marked | None,
    made: SupportSet | None,
    asked: Listing,
) -> Listed:
    """Everything that may fail in the stance, with what has become of it."""
    return Listed(
        tuple(
            in_one_list(
                all_hanging(found.walked, regions, kept),
                limit_deg=asked.limit_deg,
                bridge_mm=asked.bridge_mm,
                material=asked.material,
                resin=asked.resin,
                holding=dict(held.by) if held is not None else None,
                accepted=dict(asked.accepted),
                propped=frozenset(painted.propped if painted is not None else ()),
                kept_clear=frozenset(painted.kept_clear if painted is not None else ()),
                bare=made.bare if made is not None else (),
            )
        )
    )


def _estimate(
    part: PartFacts,
    found: Findings,
    made: SupportSet | None,
    base: Footing | None,
    asked: Costing,
    lift: Lift,
) -> Estimate:
    above = base.layers if base is not None and base.raise_mm > 0 else 0
    amounts = Amounts(
        volume_mm3=abs(part.volume_mm3),
        area_mm2=part.area_mm2,
        layers=found.layer_count + round(lift.mm / asked.layer_mm) + above,
        layer_mm=asked.layer_mm,
        support_mm3=made.volume_mm3 if made is not None else 0.0,
        footing_mm3=base.volume_mm3 if base is not None else 0.0,
        support_share=1.0,
        thick_mm3=made.thick_mm3(asked.every) if made is not None else 0.0,
        every=asked.every,
    )
    return estimate_of(
        asked.printer, asked.material, amounts, walls=asked.walls, infill=asked.infill, rows=asked.rows
    )


@recipe(
    "estimate",
    version=2,
    needs=(findings, maybe(supports), maybe(footing)),
    reads=(PartFacts, Costing, Lift),
    keep=Keep.LIGHT,
)
def estimate(
    found: Findings,
    made: SupportSet | None,
    base: Footing | None,
    part: PartFacts,
    asked: Costing,
    lift: Lift,
) -> Estimate:
    """Rough time, mass and cost, with what a second nozzle prints of the supports."""
    rough = _estimate(part, found, made, base, asked, lift)
    extra = _second(made, asked)
    return rough if extra is None else with_cost(rough, rough.cost + extra.extra_cost)


@recipe(
    "without",
    version=2,
    needs=(findings, maybe(footing)),
    reads=(PartFacts, Costing, Lift),
    keep=Keep.LIGHT,
)
def without(found: Findings, base: Footing | None, part: PartFacts, asked: Costing, lift: Lift) -> Estimate:
    """The estimate as if there were no supports."""
    return _estimate(part, found, None, base, asked, lift)


@recipe("second", version=1, needs=(supports,), reads=Costing, keep=Keep.LIGHT)
def second(made: SupportSet, asked: Costing) -> SecondNozzle | None:
    """What a second nozzle prints of the supports; ``None`` where it prints nothing."""
    return _second(made, asked)


def _second(made: SupportSet | None, asked: Costing) -> SecondNozzle | None:
    if made is None or asked.second == "nothing":
        return None
    volume = made.volume_mm3 if asked.second == "everything" else made.interface_mm3
    return second_nozzle(volume, asked.material, asked.second_material)


@recipe(
    "drained",
    version=1,
    stage="Looking under drains",
    needs=(placement, maybe(footing)),
    reads=(Drilled, Lift),
)
def drained(where: Placement, base: Footing | None, holes: Drilled, lift: Lift) -> UnderDrains:
    """What lies under the holes of a hollow part."""
    return under_drains(holes.mouths, where, base, lift.mm)


@recipe(
    "checks",
    version=7,
    needs=(
        fit,
        maybe(findings),
        maybe(listed),
        maybe(supports),
        maybe(access),
        maybe(health),
        maybe(drained),
        maybe(steadiness),
    ),
    reads=(PartFacts, Choices),
    keep=Keep.LIGHT,
    partial=True,
)
def checks(
    room: Fit,
    found: Findings | None,
    everything: Listed | None,
    made: SupportSet | None,
    ways: Sequence[Access] | None,
    surface: Report | None,
    below: UnderDrains | None,
    steady: Steadiness | None,
    part: PartFacts,
    chosen: Choices,
) -> tuple[Check, ...]:
    """What is wrong or doubtful of an item."""
    return tuple(
        preflight(
            surface=_seen(part, surface),
            fit=room,
            is_split=chosen.is_cut,
            standing=Standing(
                technology=chosen.technology,
                contact_area_mm2=found.contact_area_mm2 if found is not None else None,
                lifted=chosen.lifted,
                has_supports=chosen.has_supports,
                holds_down=chosen.footing in HOLDS_DOWN,
                tip_deg=steady.tip_deg if steady is not None else None,
                slenderness=steady.slenderness if steady is not None else None,
            ),
            findings=everything.findings if everything is not None else None,
            faults=made.faults if made is not None else (),
            brought=chosen.brought,
            hollow=HollowPart(chosen.stays, below),
            trapped=sum(way.out == Out.TRAPPED for way in ways or ()),
        )
    )


def _seen(part: PartFacts, looked: Report | None) -> Surface:
    """The surface as it was when it came in, or as it was looked over since."""
    if looked is None:
        return Surface(part.closed)
    thin = sum(place.kind == "thin" for place in looked.places)
    return Surface(looked.closed, looked.left, thin, looked.thin_mm)


@recipe("brief", version=2, stage="Summing up", needs=(placed, estimate, listed, checks, maybe(supports)))
def brief(
    size: Placed,
    rough: Estimate,
    everything: Listed,
    found: tuple[Check, ...],
    made: SupportSet | None,
) -> Brief:
    """An item in a line."""
    todo = sum(finding.state is State.TODO for finding in everything.findings)
    count = len(made.supports) if made is not None else 0
    return Brief(size.size_mm, rough.seconds, rough.mass_g, rough.cost, todo, count, found)
