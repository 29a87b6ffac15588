"""The computation of Upright Heron: pure functions over meshes and layers, bytes in and values out.

Millimetres, Z up, right-handed, plate at z = 0, facets counter-clockwise seen from outside.
Degrees at public edges. Nothing here knows of the web, the database, clocks, files or settings.
"""
