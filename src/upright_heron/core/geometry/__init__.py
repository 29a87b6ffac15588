"""Meshes, solids and what is measured on them."""
