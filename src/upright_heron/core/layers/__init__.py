"""Layers of a part and what they consist of."""
