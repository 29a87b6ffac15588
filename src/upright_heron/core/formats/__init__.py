"""Readers: bytes in, mesh out. No paths, no network; counts are checked before anything is allocated."""
