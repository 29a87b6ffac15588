"""Mass, length and cost of the filament of a print, by nozzle: one place where they are reckoned."""

from __future__ import annotations

from dataclasses import dataclass

from .rough_estimate import filament_length_mm
from .timing import Timed


@dataclass(frozen=True, slots=True)
class Spool:
    """Filament of a nozzle.

    Attributes
    ----------
    name : str
    density_g_cm3 : float
    diameter_mm : float
    price_per_kg : float
    """

    name: str
    density_g_cm3: float
    diameter_mm: float
    price_per_kg: float


@dataclass(frozen=True, slots=True)
class Share:
    """What is taken from one spool.

    Attributes
    ----------
    name : str
    mass_g : float
    metres : float
    cost : float
    """

    name: str
    mass_g: float
    metres: float
    cost: float


@dataclass(frozen=True, slots=True)
class Bill:
    """What filament a print takes.

    Attributes
    ----------
    shares : tuple of Share
        By nozzle; the second only where it prints.
    """

    shares: tuple[Share, ...]

    @property
    def mass_g(self) -> float:
        """Of all spools."""
        return sum(one.mass_g for one in self.shares)

    @property
    def metres(self) -> float:
        """Of all spools."""
        return sum(one.metres for one in self.shares)

    @property
    def cost(self) -> float:
        """Of all spools."""
        return sum(one.cost for one in self.shares)


def bill(told: Timed, first: Spool, second: Spool | None = None) -> Bill:
    """Reckon what filament a print takes.

    Parameters
    ----------
    told : Timed
    first, second : Spool
        Of both nozzles; the first for both where there is no second.

    Returns
    -------
    Bill
    """
    volumes = [(first, told.volume_mm3 - told.second_mm3)]
    if told.second_mm3 > 0:
        volumes.append((second or first, told.second_mm3))
    shares = []
    for spool, volume in volumes:
        mass = volume * spool.density_g_cm3 / 1000.0
        metres = filament_length_mm(volume, spool.diameter_mm) / 1000.0
        shares.append(Share(spool.name, mass, metres, mass / 1000.0 * spool.price_per_kg))
    return Bill(tuple(shares))
