"""Splitting oversized parts into pieces that fit the machine."""
