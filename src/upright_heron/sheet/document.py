"""What all parts of a sheet have in common."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Self

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

from ..core.units import length_mm

# Lengths are read as typed: "3.5 in" is 88.9.
Length = Annotated[float, BeforeValidator(length_mm), Field(allow_inf_nan=False)]
Name = Annotated[str, Field(min_length=1, max_length=60, pattern=r"^[^<>|\x00-\x1f]+$")]

ItemId = Annotated[str, Field(pattern=r"^[0-9a-z][0-9a-z./-]{0,99}$")]
Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{32}$")]
Quaternion = tuple[float, float, float, float]
Vector = tuple[float, float, float]


def misfit(errors: Sequence[Mapping[str, Any]]) -> str:
    """Say which value does not fit and why, of the errors of a validation."""
    first = errors[0]
    where = next((str(p) for p in reversed(first["loc"]) if isinstance(p, str)), "value")
    name = where.removesuffix("_mm").removesuffix("_deg").replace("_", " ")
    if first["type"] == "missing":
        return f"The {name} is empty."
    reason = str(first["msg"])
    return f"The {name} does not fit: {reason[:1].lower()}{reason[1:]}."


class Document(BaseModel):
    """Base of everything in the sheet and on the shelf: frozen, and strict about unknown fields."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    def model_copy(self, *, update: Mapping[str, Any] | None = None, deep: bool = False) -> Self:
        """Return a copy with other fields, unchecked; what follows from the fields is worked out anew."""
        copied = super().model_copy(update=update, deep=deep)
        for name in copied.__dict__.keys() - type(self).model_fields.keys():
            del copied.__dict__[name]
        return copied

    def __getstate__(self) -> dict[Any, Any]:
        """Return what is sent to another process: the fields, and nothing that follows from them."""
        state = super().__getstate__()
        fields = type(self).model_fields
        state["__dict__"] = {name: value for name, value in state["__dict__"].items() if name in fields}
        return state
