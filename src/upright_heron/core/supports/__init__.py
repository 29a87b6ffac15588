"""Supports: demand (what must be held) -> layout -> supports as objects -> layer polygons and meshes."""
