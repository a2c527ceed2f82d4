"""What every answer of the library can do: be read by its fields, as JSON, as a table, and in a notebook."""

from __future__ import annotations

import html
import math
import types
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any, ClassVar, Union, get_args, get_origin, get_type_hints

import msgspec

from warm_ember.errors import BadArgumentError
from warm_ember.units import quantity_text

if TYPE_CHECKING:
    import pyarrow as pa

_UNITS = {"a": "A", "c": "C", "j": "J", "s": "s", "v": "V"}
"""Units by the last part of a field's name, as the contract has them."""

_COMMON = frozenset({"grade", "bound"})
_MOST_SHOWN_ROWS = 200


class NoSuchRowError(BadArgumentError, KeyError):
    """A state, a wake source or a kind that an answer does not have; the message names those that it has."""

    def __init__(self, of: str, name: str, known: tuple[str, ...]) -> None:
        self.name, self.known = name, known
        super().__init__(f"there is no {name!r} among the {of}; there are: {', '.join(known) or 'none'}")

    def __str__(self) -> str:
        return str(self.args[0])


class Record(msgspec.Struct, frozen=True, kw_only=True):
    """One frozen answer, with the field names of the JSON object that the command of the same name prints.

    Every quantity is in the SI base unit that ends its name; an interval of 90 % stands in ``<figure>_low`` and
    ``<figure>_high``, None where nothing is known of the spread.

    Attributes
    ----------
    ROWS
        The field whose items are the rows of `table`; the record itself is the one row where it is empty.
    KEY
        The field of a row that names it; rows are taken by it: ``states["Deep sleep"]``.
    OPTIONAL
        Fields that the JSON object does not have where they are None.
    """

    ROWS: ClassVar[str] = ""
    KEY: ClassVar[str] = ""
    OPTIONAL: ClassVar[frozenset[str]] = frozenset()

    @classmethod
    def names(cls) -> tuple[str, ...]:
        """Return the fields' names, what all figures have in common last."""
        return tuple(sorted(cls.__struct_fields__, key=_COMMON.__contains__))

    @classmethod
    def columns(cls) -> tuple[str, ...]:
        """Return the columns of `table`."""
        return tuple(name for name, _ in _columns(cls._row_kind()))

    @classmethod
    def _row_kind(cls) -> type[Record]:
        found: type[Record] = get_args(get_type_hints(cls)[cls.ROWS])[0] if cls.ROWS else cls
        return found

    def __getitem__(self, name: str) -> Any:
        """Return a row by its name.

        Raises
        ------
        NoSuchRowError
            If there is none, naming those that there are.
        """
        rows = {getattr(row, self.KEY): row for row in getattr(self, self.ROWS)} if self.KEY else {}
        if name not in rows:
            raise NoSuchRowError(self.ROWS or "rows", name, tuple(rows))
        return rows[name]

    def as_json(self) -> dict[str, Any]:
        """Return the JSON object that the command prints, as built-in types."""
        found: dict[str, Any] = {}
        for name in self.names():
            value = getattr(self, name)
            if value is not None or name not in self.OPTIONAL:
                found[name] = _as_json(value)
        return found

    def table(self) -> pa.Table:
        """Return the rows with their units in the columns' names; a record in a record becomes columns of its own."""
        import pyarrow as pa

        rows: Iterable[Record] = getattr(self, self.ROWS) if self.ROWS else (self,)
        schema = pa.schema([pa.field(name, of) for name, of in _columns(self._row_kind())])
        flat = [_flat(row) for row in rows]
        return pa.table({one.name: pa.array([row.get(one.name) for row in flat], one.type) for one in schema}, schema)

    def _repr_html_(self) -> str:
        """Return what a notebook shows: the single figures, then the rows as a table."""
        single = [
            (name, value)
            for name in self.names()
            if not isinstance(value := getattr(self, name), (tuple, Record)) and value is not None
        ]
        head = "".join(
            f"<tr><th style='text-align:left'>{_escaped(name)}</th><td>{_escaped(_shown(name, value))}</td></tr>"
            for name, value in single
        )
        return f"<table>{head}</table>{self._rows_html()}"

    def _rows_html(self) -> str:
        if not self.ROWS:
            return ""
        rows = getattr(self, self.ROWS)
        names = [name for name in (rows[0].names() if rows else ()) if not _is_end(name)]
        body = "".join(
            "<tr>" + "".join(f"<td>{_escaped(_shown(name, getattr(row, name)))}</td>" for name in names) + "</tr>"
            for row in rows[:_MOST_SHOWN_ROWS]
        )
        head = "".join(f"<th>{_escaped(name)}</th>" for name in names)
        more = len(rows) - _MOST_SHOWN_ROWS
        rest = f"<p>and {more} more: see <code>table()</code></p>" if more > 0 else ""
        return f"<table><tr>{head}</tr>{body}</table>{rest}"


def json_bytes(content: Any) -> bytes:
    """Return JSON; what is not finite becomes null."""
    return msgspec.json.encode(_finite(content))


def _finite(content: Any) -> Any:
    if isinstance(content, dict):
        return {_finite(key): _finite(value) for key, value in content.items()}
    if isinstance(content, list | tuple):
        return [_finite(value) for value in content]
    if isinstance(content, str):  # a file's name may hold bytes that are no text
        return content.encode("utf-8", "replace").decode("utf-8")
    if isinstance(content, float) and not math.isfinite(content):
        return None
    return content


def _as_json(value: Any) -> Any:
    if isinstance(value, Record):
        return value.as_json()
    if isinstance(value, Mapping):
        return {name: _as_json(one) for name, one in value.items()}
    if isinstance(value, tuple):
        return [_as_json(one) for one in value]
    return value


def _columns(kind: type[Record], before: str = "") -> Iterable[tuple[str, pa.DataType]]:
    """Yield the columns of a kind of record: name and type; rows within the rows are in no table."""
    hints = get_type_hints(kind)
    for name in kind.names():
        inner = _without_none(hints[name])
        if isinstance(inner, type) and issubclass(inner, Record):
            yield from _columns(inner, f"{before}{name}_")
        elif (of := _column_type(inner)) is not None:
            yield f"{before}{name}", of


def _without_none(hint: Any) -> Any:
    if get_origin(hint) in (Union, types.UnionType):
        kinds = [one for one in get_args(hint) if one is not type(None)]
        return kinds[0] if len(kinds) == 1 else hint
    return hint


def _column_type(hint: Any) -> pa.DataType | None:
    import pyarrow as pa

    plain = {str: pa.string(), float: pa.float64(), int: pa.int64(), bool: pa.bool_()}
    if get_origin(hint) is tuple:
        of = _column_type(get_args(hint)[0])
        return None if of is None else pa.list_(of)
    return plain.get(hint)


def _flat(row: Record, before: str = "") -> dict[str, Any]:
    found: dict[str, Any] = {}
    for name in row.names():
        value = getattr(row, name)
        if isinstance(value, Record):
            found.update(_flat(value, f"{before}{name}_"))
        else:
            found[f"{before}{name}"] = value
    return found


def _is_end(name: str) -> bool:
    return name.endswith(("_low", "_high"))


def _shown(name: str, value: Any) -> str:
    """Return a figure in words, with its unit by its name."""
    if value is None:
        return "–"
    if isinstance(value, bool) or not isinstance(value, float):
        return ", ".join(map(str, value)) if isinstance(value, tuple) else str(value)
    if not math.isfinite(value):
        return str(value)
    stem = name
    for end in ("_low", "_high", "_mean"):
        stem = stem.removesuffix(end)
    unit = _UNITS.get(stem.rpartition("_")[2])
    return str(quantity_text(value, unit)) if unit else f"{value:.6g}"


def _escaped(text: str) -> str:
    shown = "".join(c if c.isprintable() else "·" for c in text)
    return html.escape(shown)
