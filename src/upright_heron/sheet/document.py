"""What all parts of a sheet have in common."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

from ..core.units import length_mm

# Lengths are read as typed: "3.5 in" is 88.9.
Length = Annotated[float, BeforeValidator(length_mm), Field(allow_inf_nan=False)]
Name = Annotated[str, Field(min_length=1, max_length=60, pattern=r"^[^<>|\x00-\x1f]+$")]


class Document(BaseModel):
    """Base of everything in the sheet and on the shelf: frozen, and strict about unknown fields."""

    model_config = ConfigDict(frozen=True, extra="forbid")
