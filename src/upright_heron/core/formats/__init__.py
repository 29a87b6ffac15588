"""Readers: bytes in, mesh out. No paths, no network; declared counts are checked before anything is allocated."""
