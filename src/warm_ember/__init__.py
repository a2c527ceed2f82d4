"""Warm Ember: where a battery device's charge goes, from amperes to months."""

__version__ = "0.1.0"
