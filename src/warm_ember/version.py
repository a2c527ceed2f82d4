"""Which version of the program this is, and when it was released; the release script writes both."""

VERSION = "0.1.0"
RELEASED = "2026-12-01"
