"""Stilts for resin parts."""
