"""What is wrong with a surface, where, and how it is mended."""
