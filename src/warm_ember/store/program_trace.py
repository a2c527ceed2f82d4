"""Samples of the program counter in a capture file: ``/program`` and the ``/functions`` at its addresses."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from warm_ember.model.capture import text_of
from warm_ember.model.program import Function, ProgramTrace

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


def read_program(file: Any) -> ProgramTrace | None:
    """Return the trace of an open capture file; None when it has none."""
    if "program" not in file:
        return None
    rows = file["functions"][:] if "functions" in file else ()
    functions = tuple(
        Function(int(row["address"]), int(row["size"]), text_of(row["name"]), text_of(row["file"])) for row in rows
    )
    group = file["program"]
    return ProgramTrace(group["time_s"][:].astype(np.float64), group["address"][:].astype(np.uint64), functions)
