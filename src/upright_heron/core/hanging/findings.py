"""The one list of what may fail in a stance: each with a place, a reason in a sentence, and a state."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from ..geometry.mesh import Mesh
from ..layers.stack import LayerStack
from ..quantities import area as _area
from ..quantities import length as _mm
from ..quantities import volume as _volume
from ..tags import stored
from .cups import Cup, find_cups
from .islands import Island, find_islands, with_points
from .layer_steps import FACTOR, Neck, Step, layer_steps, thin_necks
from .lowest_points import Low, low_points
from .overhang_regions import Kind, Region
from .pools import Pool

# Tips shallower than this share of a layer are the texture of a surface.
TEXTURE = 0.25
# A low point that is longer is called an edge: about a bead.
EDGE_MM = 0.4


class Family(StrEnum):
    """What sort of thing a finding is; within each they are numbered from 1."""

    ISLAND = "island"
    OVERHANG = "overhang"
    LOW = "low point"
    STEP = "layer step"
    NECK = "thin neck"
    CUP = "suction cup"
    POOL = "trapped resin"
    CONTACT = "contact"


class State(StrEnum):
    """What has become of a finding."""

    TODO = "to do"
    HELD = "held"
    CARRIES = "carries itself"
    ACCEPTED = "accepted"


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing to look at.

    Attributes
    ----------
    id : str
        Stays the same while it is of the same family in the same place.
    family : Family
    number : int
        Within its family, the lowest first.
    kind : str
        In words, such as ``point``, ``bridge`` or ``ceiling``.
    at_mm : (x, y, z)
        Where it is, the plate at z = 0.
    z_mm : float
        Height of the layer in which it is best seen.
    area_mm2 : float
    reason : str
        Why it may fail, in one sentence.
    state : State
    by : tuple of str
        Ids of the supports that hold it.
    note : str
        Of whoever accepted it.
    """

    id: str
    family: Family
    number: int
    kind: str
    at_mm: tuple[float, float, float]
    z_mm: float
    area_mm2: float
    reason: str
    state: State = State.TODO
    by: tuple[str, ...] = ()
    note: str = ""

    @property
    def name(self) -> str:
        """Such as ``island 3``."""
        return f"{self.family.value} {self.number}"


@dataclass(frozen=True, slots=True)
class Bare:
    """Something that was to be held and is not, by the check of the finished supports.

    Attributes
    ----------
    patch : str
        Its id: that of a finding, or of a contact that was asked for otherwise.
    at_mm : (x, y, z)
    area_mm2 : float
    words : str
        What is so, and why.
    """

    patch: str
    at_mm: tuple[float, float, float]
    area_mm2: float
    words: str


@stored("hanging")
@dataclass(frozen=True, slots=True)
class Hanging:
    """All that the analyses of a stance found; see the modules they come from."""

    islands: tuple[Island, ...] = ()
    lows: tuple[Low, ...] = ()
    regions: tuple[Region, ...] = ()
    steps: tuple[Step, ...] = ()
    necks: tuple[Neck, ...] = ()
    cups: tuple[Cup, ...] = ()
    pools: tuple[Pool, ...] = ()


def walk(
    placed: Mesh,
    stack: LayerStack,
    *,
    spot_mm: float,
    resin: bool,
    on_plate: bool = True,
    step_factor: float = FACTOR,
) -> Hanging:
    """Go through the layers of a part from the bottom up: all findings but the overhang regions.

    Parameters
    ----------
    placed : Mesh
        The part in its stance.
    stack : LayerStack
        Its layers.
    spot_mm : float
        Narrowest thing that the machine makes: its nozzle, or three pixels.
    resin : bool
        Look for suction cups too.
    on_plate : bool
    step_factor : float
        See ``layer_steps``.

    Returns
    -------
    Hanging
    """
    islands, _ = find_islands(stack, on_plate=on_plate)
    lows = low_points(placed, depth_mm=TEXTURE * stack.layer_mm)
    if on_plate:
        # What begins within the first layer is pressed onto the plate.
        lows = [low for low in lows if low.z_mm > stack.base_mm + 0.5 * stack.layer_mm]
    told, between = with_points(islands, lows, stack, spot_mm)
    return Hanging(
        tuple(told),
        tuple(between),
        (),
        tuple(layer_steps(stack, step_factor)),
        tuple(thin_necks(stack)),
        tuple(find_cups(stack, on_plate=on_plate)) if resin else (),
    )


def finding_id(family: Family, x: float, y: float, z: float) -> str:
    """Name a finding after its place, to half a millimetre."""
    place = f"{family.value}:{round(2 * x)}:{round(2 * y)}:{round(2 * z)}"
    return hashlib.blake2b(place.encode(), digest_size=5).hexdigest()


def listed(
    found: Hanging,
    *,
    limit_deg: float,
    bridge_mm: float,
    material: str,
    resin: bool,
    holding: Mapping[str, Sequence[str]] | None = None,
    accepted: Mapping[str, str] | None = None,
    propped: frozenset[int] = frozenset(),
    kept_clear: frozenset[int] = frozenset(),
    bare: Sequence[Bare] = (),
) -> list[Finding]:
    """Put everything found into one list.

    Parameters
    ----------
    found : Hanging
    limit_deg : float
        Self-supporting limit.
    bridge_mm : float
        Longest bridge that carries itself.
    material : str
        Name of the material, for the reasons.
    resin : bool
        Resin spans no bridges; its layers are pulled off a film.
    holding : mapping of finding id to ids of supports, optional
    accepted : mapping of finding id to a note, optional
    propped : frozenset of int
        Numbers of regions that are to be held although they carry themselves.
    kept_clear : frozenset of int
        Numbers of regions that the technician painted to be kept clear: that accepts them.
    bare : sequence of Bare
        What the check of the finished supports found without; it overrules ``holding``.

    Returns
    -------
    list of Finding
        From the lowest up.
    """
    holding, accepted = holding or {}, accepted or {}
    raw = [
        *(_island(i) for i in found.islands),
        *(_low(p) for p in found.lows),
        *(_region(r, limit_deg, bridge_mm, material, resin) for r in found.regions),
        *(_step(n, s, resin) for n, s in enumerate(found.steps, 1)),
        *(_neck(n, k, resin) for n, k in enumerate(found.necks, 1)),
        *(_cup(n, c) for n, c in enumerate(found.cups, 1)),
        *(_pool(n, p) for n, p in enumerate(found.pools, 1)),
    ]
    carried = {
        region.number
        for region in found.regions
        if not resin and region.number not in propped and region.carries_itself(bridge_mm)
    }
    result = []
    without = {one.patch: one for one in bare}
    for family, number, kind, at, z, area, reason in raw:
        key = finding_id(family, *at)
        state, by, note = State.TODO, tuple(holding.get(key, ())), ""
        if key in without:
            # The layers were looked at: they are stricter than what stands near.
            reason, by = f"{reason} {without.pop(key).words}", ()
        elif by:
            state = State.HELD
        elif family is Family.OVERHANG and number in carried:
            state = State.CARRIES
        elif family is Family.OVERHANG and number in kept_clear:
            state, note = State.ACCEPTED, "painted to be kept clear"
        if state is State.TODO and key in accepted:
            state, note = State.ACCEPTED, accepted[key]
        result.append(Finding(key, family, number, kind, at, z, area, reason, state, by, note))
    for number, one in enumerate(without.values(), 1):
        key = finding_id(Family.CONTACT, *one.at_mm)
        note = accepted.get(key, "")
        state = State.ACCEPTED if key in accepted else State.TODO
        at, area = one.at_mm, one.area_mm2
        result.append(Finding(key, Family.CONTACT, number, "", at, at[2], area, one.words, state, (), note))
    order = list(Family)
    return sorted(result, key=lambda f: (round(f.z_mm, 3), order.index(f.family), f.number))


_Raw = tuple[Family, int, str, tuple[float, float, float], float, float, str]


def _island(island: Island) -> _Raw:
    starts = "as a point" if island.point else f"with {_area(island.area_mm2)}"
    if island.joins_z_mm is None:
        ends = f"it never joins the rest, {_volume(island.hanging_mm3)}"
    else:
        rest = f"island {island.joins}" if island.joins else "the rest"
        ends = f"joins {rest} at {_mm(island.joins_z_mm)} mm, {_volume(island.hanging_mm3)} hang on it"
    reason = f"Starts in mid-air {starts} at {_mm(island.z_mm)} mm; {ends}."
    at = (island.x_mm, island.y_mm, island.z_mm)
    kind = "point" if island.point else "flat start"
    return Family.ISLAND, island.number, kind, at, island.z_mm, island.area_mm2, reason


def _low(low: Low) -> _Raw:
    what = "A tip begins" if low.wide_mm < EDGE_MM else f"An edge of {_mm(low.wide_mm)} mm begins"
    return (
        Family.LOW, low.number, "tip" if low.wide_mm < EDGE_MM else "edge", (low.x_mm, low.y_mm, low.z_mm),
        low.z_mm, 0.0,
        f"{what} between two layers at {_mm(low.z_mm)} mm, {_mm(low.depth_mm)} mm below all round it.",
    )  # fmt: skip


def _region(region: Region, limit_deg: float, bridge_mm: float, material: str, resin: bool) -> _Raw:
    below = f"{_mm(region.gap_mm)} mm above the {'part' if region.over_part else 'plate'}"
    kind: str = region.kind
    over, steep = _area(region.area_mm2), f"{region.steepest_deg:.0f}°"
    if region.bridge is not None and not resin:
        kind, span = "bridge", region.bridge.span_mm
        if region.carries_itself(bridge_mm):
            reason = f"Spans {_mm(span)} mm, within the {bridge_mm:g} mm that {material} bridges by itself."
        else:
            reason = (
                f"Spans {_mm(span)} mm, more than the {bridge_mm:g} mm that {material} bridges by itself."
            )
    elif region.kind == Kind.CEILING:
        reason = f"A ceiling of {over} hangs {below}."
    elif region.kind == Kind.HOLE:
        reason = f"The top of a hole closes at up to {steep} over {over}, {below}."
    elif region.kind == Kind.EDGE:
        reason = f"A narrow edge of {over} leans to {steep}, past {limit_deg:g}°, {below}."
    else:
        reason = f"{over} lean to {steep}, past the limit of {limit_deg:g}°, {below}."
    x, y, z = region.lowest_mm
    return Family.OVERHANG, region.number, kind, (x, y, z), z, region.area_mm2, reason


def _step(number: int, step: Step, resin: bool) -> _Raw:
    change = f"from {_area(step.below_mm2)} to {_area(step.above_mm2)} at {_mm(step.z_mm)} mm"
    if step.grows:
        risk = "the pull of the film jumps" if resin else "a large sheet begins there and may warp"
    else:
        risk = (
            "the pull of the film drops, and a line may show"
            if resin
            else "the layers above cool and shrink otherwise, and a line may show"
        )
    word = "grows" if step.grows else "drops"
    reason = f"The layer {word} {change}: {risk}."
    return Family.STEP, number, word, (0.0, 0.0, step.z_mm), step.z_mm, step.above_mm2, reason


def _neck(number: int, neck: Neck, resin: bool) -> _Raw:
    risk = "peel may tear it" if resin else "it shakes loose, or breaks as supports come off"
    reason = f"{_area(neck.area_mm2)} at {_mm(neck.z_mm)} mm carry {_volume(neck.above_mm3)} above: {risk}."
    return Family.NECK, number, "neck", (0.0, 0.0, neck.z_mm), neck.z_mm, neck.area_mm2, reason


def _cup(number: int, cup: Cup) -> _Raw:
    end = "it closes for good, and resin stays inside" if cup.trapped else "the film pulls on it at each lift"
    reason = f"A hollow of {_volume(cup.volume_mm3)} is closed up to {_mm(cup.z_mm)} mm: {end}."
    at = (cup.x_mm, cup.y_mm, cup.z_mm)
    return Family.CUP, number, "trapped" if cup.trapped else "cup", at, cup.z_mm, cup.film_mm2, reason


def _pool(number: int, pool: Pool) -> _Raw:
    mends = ["a hole at its highest place lets it out"]
    if pool.lean_deg:
        mends.append(f"so does leaning the top {pool.lean_deg}° to the {pool.side}")
    if not pool.stands:
        mends.append("it runs out once the part stands the other way up")
    reason = f"{_volume(pool.volume_mm3)} of resin stay in while it hangs from the plate: {'; '.join(mends)}."
    at = (pool.x_mm, pool.y_mm, pool.z_mm)
    return Family.POOL, number, "hollow" if pool.stands else "bowl", at, pool.z_mm, 0.0, reason
