"""Upright Heron: print preparation for filament and resin parts."""

__version__ = "0.1.0"
