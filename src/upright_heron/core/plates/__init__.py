"""Parts on the plate of a machine."""
