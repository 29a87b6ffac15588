"""Printers, materials and the coupons that measure them."""
