"""Hollow parts: a wall left of the part, holes that resin runs out of, and what stays in."""
