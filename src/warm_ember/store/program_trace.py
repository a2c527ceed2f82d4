"""Samples of the program counter in a capture file: ``/program`` and the ``/functions`` at its addresses."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from warm_ember.model.program import ProgramTrace

if TYPE_CHECKING:
    import h5py


def write_program(file: h5py.File, trace: ProgramTrace) -> None:
    """Write a trace into an open capture file."""
    import h5py  # is loaded already: the file is open

    group = file.create_group("program")
    for name, values in (("time_s", trace.times_s), ("address", trace.addresses)):
        # Sleep repeats one address for most of the time: the packed table is a small part of the capture.
        group.create_dataset(name, data=values, chunks=True, shuffle=True, compression="lzf")
    if trace.functions:
        text = h5py.string_dtype()
        kind = np.dtype([("address", "<u8"), ("size", "<u8"), ("name", text), ("file", text)])
        rows = [(function.address, function.size, function.name, function.file) for function in trace.functions]
        file.create_dataset("functions", data=np.array(rows, dtype=kind))
