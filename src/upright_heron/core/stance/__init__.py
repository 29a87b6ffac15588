"""Stance: which way up a part stands."""
