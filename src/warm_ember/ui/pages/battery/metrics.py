"""Lengths that the views of the battery have in common, so that their plots stand under each other."""

HEAD = 160
"""The column of names at the left, in logical pixels."""
