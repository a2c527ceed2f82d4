"""The errors that an instrument queues, in the engineer's words: SCPI-1999 volume 2, 21.8."""

from __future__ import annotations

import re
from typing import NamedTuple

_WORDS = {
    -109: "it wants a value that was not sent",
    -113: "it does not know this command",
    -213: "it is still recording and cannot start again",
    -220: "it cannot take this value",
    -221: "what was asked does not go with how it is set",
    -222: "the value is outside what it can do",
    -223: "too much data at once",
    -224: "it cannot take this value",
    -230: "its data are stale: nothing was recorded",
    -240: "its hardware failed",
    -241: "a part that this needs is missing",
    -310: "it reports a failure inside",
    -350: "so many errors came that some are lost",
    -363: "it was read too slowly and lost samples",
    -410: "a question was broken off",
    -420: "it received no query",
}
_CLASSES = {
    1: "it did not understand",
    2: "it could not do this",
    3: "it has a problem of its own",
    4: "its answers got mixed up",
}
_ANSWER = re.compile(r'\s*([+-]?\d+)\s*(?:,\s*"?(.*?)"?\s*)?\Z', re.DOTALL)


class ScpiError(NamedTuple):
    """Number and text of an error; 0 is none."""

    number: int
    text: str


def parse_error(answer: str) -> ScpiError | None:
    """Return number and text of an answer to ``SYSTem:ERRor?``; None when it is none.

    Examples
    --------
    >>> parse_error('-222,"Data out of range"'), parse_error("what?")
    (ScpiError(number=-222, text='Data out of range'), None)
    """
    match = _ANSWER.match(answer)
    return ScpiError(int(match[1]), match[2] or "") if match else None


def error_words(number: int, text: str) -> str:
    """Return an error in words, with its number and text behind.

    Examples
    --------
    >>> error_words(-222, "Data out of range")
    'the value is outside what it can do (-222, Data out of range)'
    """
    words = _WORDS.get(number) or _CLASSES.get(-number // 100, "it reports an error of its make")
    return f"{words} ({number}, {text})" if text else f"{words} ({number})"
