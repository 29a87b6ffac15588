"""What holds the part on the plate."""

from __future__ import annotations

from ..footing.advice import Advice, Known, advise
from ..footing.footing import Footing, footprint, make_footing
from ..graph import maybe, recipe
from ..layers.stack import LayerStack
from ..stance.figures import Figures
from ..supports.support_set import SupportSet
from .hanging import figures_of_stance
from .layers import layers
from .settings import AdviceSetting, FootingSetting, LayerHeight, Lift
from .supports_resin import supports


@recipe(
    "footing",
    version=4,
    stage="Making the footing",
    needs=(layers, maybe(supports)),
    reads=(FootingSetting, LayerHeight, Lift),
)
def footing(
    stack: LayerStack, made: SupportSet | None, asked: FootingSetting, layer: LayerHeight, lift: Lift
) -> Footing:
    """Skirt, brim, corners, raft, pads or ties."""
    plan = footprint(stack, made.layers if made is not None else None, lifted=lift.mm > 0)
    return make_footing(plan, asked.settings, layer.mm)


@recipe(
    "footing_advice",
    version=1,
    stage="Looking for a footing",
    needs=(layers, maybe(supports), figures_of_stance),
    reads=(AdviceSetting, Lift),
)
def footing_advice(
    stack: LayerStack, made: SupportSet | None, told: Figures, asked: AdviceSetting, lift: Lift
) -> Advice:
    """Which footing a part of filament wants, and why."""
    first = footprint(stack, None, lifted=lift.mm > 0)
    feet = len(made.layers.section(0).decompose()) if made is not None else 0
    return advise(
        first,
        Known(
            told.contact_area_mm2,
            told.height_mm,
            told.tip_angle_deg,
            feet,
            asked.shrinkage_percent,
            asked.heated,
            asked.uneven,
        ),
    )
