"""Fixtures of the bench."""

from bench.benches import serve

__all__ = ["serve"]
