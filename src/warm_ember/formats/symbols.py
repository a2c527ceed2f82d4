"""Functions and their source files from an ELF file (Tool Interface Standard, ELF 1.2; DWARF 2 to 5)."""

from __future__ import annotations

import logging
from bisect import bisect_right
from pathlib import Path, PurePosixPath
from typing import Any

from warm_ember.errors import BadFileError
from warm_ember.model.program import Function

log = logging.getLogger(__name__)


def read_functions(path: Path) -> tuple[tuple[Function, ...], tuple[str, ...]]:
    """Return the functions by rising address, and what is to be said of them.

    Raises
    ------
    BadFileError
        If it is no ELF file. One without symbols gives no functions and a note.
    """
    from elftools.common.exceptions import ELFError  # loads when first needed
    from elftools.elf.elffile import ELFFile

    try:
        with path.open("rb") as file:
            elf = ELFFile(file)
            _check_target(path, elf)
            functions = _from_symbols(elf)
            files = _compiled_files(elf)
    except OSError as error:
        raise BadFileError(path, f"cannot be read ({error.strerror or error})") from error
    except (ELFError, AttributeError, KeyError, IndexError, UnicodeDecodeError, ValueError, OverflowError) as error:
        # The library raises whatever a damaged table leads it to.
        log.debug("reading %s failed", path, exc_info=True)
        raise BadFileError(
            path, "expected an ELF file, found something else or a damaged one", remedy="give the file that was flashed"
        ) from error
    if not functions:
        return (), (f"{path.name} has no function symbols: functions are shown by address; build it with symbols",)
    notes: tuple[str, ...] = ()
    found = tuple(sorted(_with_file(function, files) for function in _distinct(functions)))
    if not any(function.file for function in found):
        notes = (f"{path.name} does not say which source file a function comes from: build it with debug information",)
    return found, notes


def _check_target(path: Path, elf: Any) -> None:
    """Refuse a program for another kind of machine: its addresses would name functions that never ran."""
    machine, bits, order = elf["e_machine"], elf.elfclass, "little" if elf.little_endian else "big"
    if (machine, bits, order) != ("EM_ARM", 32, "little"):
        name = str(machine).removeprefix("EM_")
        raise BadFileError(
            path,
            f"expected a program for little-endian 32-bit Arm, found one for {order}-endian {bits}-bit {name}",
            remedy="give the file that was flashed",
        )


def _from_symbols(elf: Any) -> list[Function]:
    """Read the symbol table; a local symbol belongs to the file symbol before it (ELF 1.2, 1-18)."""
    table = elf.get_section_by_name(".symtab")
    if table is None:
        return []
    is_arm = elf["e_machine"] == "EM_ARM"
    found, file = [], ""
    for symbol in table.iter_symbols():
        info = symbol["st_info"]
        if info["type"] == "STT_FILE":
            file = symbol.name
        elif info["type"] == "STT_FUNC" and symbol["st_size"] and symbol["st_shndx"] != "SHN_UNDEF":
            # Bit 0 of an Arm function's address says that it is Thumb code, not where it lies.
            address = symbol["st_value"] & ~1 if is_arm else symbol["st_value"]
            local = info["bind"] == "STB_LOCAL"
            found.append(Function(address, symbol["st_size"], symbol.name, _short(file) if local else ""))
    return found


def _distinct(functions: list[Function]) -> list[Function]:
    """Keep one of several names for the same code, with a file where one has it."""
    by_address: dict[int, Function] = {}
    for function in functions:
        known = by_address.get(function.address)
        if known is None or (function.file and not known.file) or function.size > known.size:
            by_address[function.address] = function
    return list(by_address.values())


def _compiled_files(elf: Any) -> list[tuple[int, int, str]]:
    """Return the address ranges of the compilation units with their file, by rising address."""
    if not elf.has_dwarf_info():
        return []
    dwarf = elf.get_dwarf_info()
    lists = dwarf.range_lists()
    found = []
    for unit in dwarf.iter_CUs():
        top = unit.get_top_DIE()
        name = top.attributes.get("DW_AT_name")
        if name is None:
            continue
        file = _short(name.value.decode("utf-8", "replace"))
        found += [(low, high, file) for low, high in _ranges(top, unit, lists) if high > low]
    return sorted(found)


def _ranges(top: Any, unit: Any, lists: Any) -> list[tuple[int, int]]:
    low, high = top.attributes.get("DW_AT_low_pc"), top.attributes.get("DW_AT_high_pc")
    if low is not None and high is not None:
        is_length = high.form.startswith("DW_FORM_data") or high.form == "DW_FORM_implicit_const"
        return [(low.value, low.value + high.value if is_length else high.value)]
    ranges = top.attributes.get("DW_AT_ranges")
    if ranges is None or lists is None:
        return []
    base = low.value if low is not None else 0
    found = []
    for entry in lists.get_range_list_at_offset(ranges.value, cu=unit):
        if hasattr(entry, "base_address"):
            base = entry.base_address
        else:
            start = 0 if getattr(entry, "is_absolute", False) else base
            found.append((start + entry.begin_offset, start + entry.end_offset))
    return found


def _with_file(function: Function, files: list[tuple[int, int, str]]) -> Function:
    index = bisect_right(files, (function.address, float("inf"), "")) - 1
    if index >= 0 and files[index][0] <= function.address < files[index][1]:
        return Function(function.address, function.size, function.name, files[index][2])
    return function


def _short(file: str) -> str:
    """Leave the last two parts of a path: enough to tell files apart, without where it was built."""
    return "/".join(PurePosixPath(file.replace("\\", "/")).parts[-2:])
