"""What holds the part on the plate."""

from __future__ import annotations

from ..footing.footing import Footing, FootingSettings, footprint, make_footing
from ..graph import maybe, recipe
from ..layers.stack import LayerStack
from ..supports.support_set import SupportSet
from .layers import layers
from .settings import FootingSetting, LayerHeight, Lift
from .supports_resin import supports


@recipe(
    "footing",
    version=3,
    stage="Making the footing",
    needs=(layers, maybe(supports)),
    reads=(FootingSetting, LayerHeight, Lift),
)
def footing(
    stack: LayerStack, made: SupportSet | None, asked: FootingSetting, layer: LayerHeight, lift: Lift
) -> Footing:
    """Skirt, brim, raft, pads or ties."""
    settings = FootingSettings(
        kind=asked.kind,
        lines=asked.lines,
        line_width_mm=asked.line_width_mm,
        margin_mm=asked.margin_mm,
        raft_layers=asked.raft_layers,
        gap_mm=asked.gap_mm,
        rim_deg=asked.rim_deg,
        gaps=asked.gaps,
    )
    plan = footprint(stack, made.layers if made is not None else None, lifted=lift.mm > 0)
    return make_footing(plan, settings, layer.mm)
