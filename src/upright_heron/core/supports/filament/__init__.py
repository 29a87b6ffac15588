"""Supports that a filament machine prints."""
