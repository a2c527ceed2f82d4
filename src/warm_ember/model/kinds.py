"""What the project says of kinds of wakes: their names, what they are recognised by, and what was sorted by hand."""

from __future__ import annotations

import msgspec

UNSORTED = "unsorted"


class Likeness(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a kind of wakes is recognised by in another capture.

    Parameters
    ----------
    length_s, charge_c, peak_a
        Of a usual one: its length, its charge above the floor, and its highest current above that.
    course
        The logarithm of its current above the floor in equal parts, around its mean, nepers.
    period_s
        Of its timer; None where it has none.
    """

    length_s: float
    charge_c: float
    peak_a: float
    course: tuple[float, ...] = ()
    period_s: float | None = None


class WakeKind(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A kind of wakes that the project knows.

    Parameters
    ----------
    letter
        Its identity: no two kinds have the same.
    name
        What the engineer calls it; empty where nobody named it.
    likes
        What it is recognised by; several where kinds were joined.
    """

    letter: str
    name: str = ""
    likes: tuple[Likeness, ...] = ()

    @property
    def label(self) -> str:
        """Its name, or its letter."""
        return self.name or letter_label(self.letter)


class SortedWake(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A wake that was sorted by hand.

    Parameters
    ----------
    capture, at_s
        Which one: it is going on at that time.
    letter
        The kind that it belongs to; empty for none.
    """

    capture: str
    at_s: float
    letter: str


def letter_label(letter: str) -> str:
    """Return what a kind without a name is called."""
    return f"kind {letter}"


def letter_of(number: int) -> str:
    """Return the letter of a number.

    Examples
    --------
    >>> [letter_of(number) for number in (0, 25, 26, 27)]
    ['A', 'Z', 'AA', 'AB']
    """
    before, after = divmod(number, 26)
    return (letter_of(before - 1) if before else "") + chr(ord("A") + after)
