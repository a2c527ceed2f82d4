"""What the simulated post truly draws on average with some values set: exact sums, without noise or sampling."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from warm_ember.bench.simulated.firmware import Firmware, Post


def true_mean_a(
    firmware: Firmware, commands: Iterable[str], from_s: float, to_s: float, *, seed: int = 1, report_at_s: float = 60.0
) -> float:
    """Return the mean current between two moments after power-on, A; commands are given a second after it.

    Raises
    ------
    ValueError
        If the post refuses a command.
    """
    post = Post(firmware, seed, report_at_s=report_at_s)
    post.run(1.0)
    for words in commands:
        answer = post.command(words)
        if answer is None or not answer.startswith("ok"):
            raise ValueError(f"{words}: {answer}")
    post.run(to_s)
    times_s, currents_a = np.array([*post.board.times_s, to_s]), np.array(post.board.currents_a)
    lasts_s = np.diff(np.clip(times_s, from_s, to_s))
    return float(np.sum(lasts_s * currents_a) / (to_s - from_s))
