"""The import preview: what a file would be read as, and everything about it that can be changed."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QCursor, QFontDatabase, QFontMetrics, QKeyEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMenu,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from warm_ember.errors import BadArgumentError, ColumnError, WarmEmberError
from warm_ember.session.importing import ImportRequest
from warm_ember.session.preview import (
    DATE_ORDERS,
    DELIMITER_NAMES,
    ImportOptions,
    Preview,
    ShownColumn,
    first_lines,
    keep,
    named_for,
    preview,
    reading_of,
)
from warm_ember.ui.lanes.current_axis import draw_pixels, paint_current_axis
from warm_ember.ui.lanes.heat import heat_picture, log_scale
from warm_ember.ui.look.label import Label, tip
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.figure_table import FigureTable
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import duration_text, percent_text, quantity_text

_UNITS = ("A", "mA", "uA", "nA")
_FORMATS = ("f32", "f64", "i16")
_ROLES = ("current", "time", "voltage")
_COLUMN_FIELDS = {"current": "current_column", "time": "time_column", "voltage": "voltage_column"}
_NUMBER_FIELDS = {
    "rate": "rate_hz", "shunt": "shunt_ohm", "gain": "gain", "amplifier's offset": "offset_v",
    "ampere per count": "scale_a",
}  # fmt: skip
_BY_ITSELF = "automatic"
_RAW_ENDINGS = (".bin", ".raw", ".dat", ".f32", ".f64", ".i16")


class BeginningPlot(PaintedView):
    """A small trace of a file's beginning."""

    reads_as = "Beginning of the file"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self._shown: Preview | None = None
        self.setMinimumHeight(look.px(80))
        self.setMaximumHeight(look.px(150))
        look.changed.connect(self.update)

    def show_preview(self, shown: Preview | None) -> None:
        """Show a beginning."""
        self._shown = shown
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        plot = QRectF(px(84), px(4), self.width() - px(92), self.height() - px(26))
        painter.fillRect(plot, theme.sunken)
        if self._shown is not None:
            length_s, width = self._shown.length_s, round(plot.width())
            columns = self._shown.current_by_column(width)
            positive = columns.mean[columns.mean > 0]
            ends = (float(positive.min()), float(np.nanmax(columns.high))) if len(positive) else (1e-6, 1e-3)
            scale = log_scale(*ends)
            rows = round(plot.height())
            draw_pixels(painter, plot, heat_picture(columns, scale, rows, theme, ground=np.zeros(rows, dtype=bool)))
            paint_current_axis(painter, plot, scale, look, room=px(84))
            foot = QRectF(plot.left(), plot.bottom() + px(3), plot.width(), px(16))
            draw_rich_text(painter, foot, "0", look, size="small")
            words = f"{duration_text(length_s)}{'' if self._shown.whole else ', and more'}"
            draw_rich_text(painter, foot, words, look, size="small", align=Qt.AlignmentFlag.AlignRight)
        painter.end()


@dataclass(frozen=True)
class _Choice:
    """An entry of a choice: what is shown, and the value it stands for; None is found out."""

    text: str
    value: str | None


class ImportView(QWidget):
    """One file after another: look at it, change what was assumed, import it.

    Signals
    -------
    import_asked
        An `ImportRequest`.
    finished
        No file is left.
    changed
        Sentence or warning are no longer as they were.
    """

    import_asked = Signal(object)
    finished = Signal()
    changed = Signal()

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("page")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.controller, self.look = controller, look
        self.queue: list[ImportRequest] = []
        self._asked = 0
        self.took_any = False
        self.shown: Preview | None = None
        self.problem = ""
        self.reading = ""
        self._is_fresh = True
        self._titles: tuple[str, ...] = ()
        self.choices: dict[str, QComboBox] = {}
        self.numbers: dict[str, QuantityEdit] = {}
        self._labels: dict[str, QLabel] = {}
        self._build()

    def _build(self) -> None:
        px = self.look.px
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(self._build_fields())
        right = QVBoxLayout()
        right.setContentsMargins(px(16), px(12), px(16), px(12))
        right.setSpacing(px(8))
        self.plot = BeginningPlot(self.look)
        self.raw = QPlainTextEdit()
        self.raw.setReadOnly(True)
        self.raw.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.raw.setTabChangesFocus(True)
        self.raw.setAccessibleName("The file's first lines")
        self.columns = FigureTable(
            self.look, ("column", "taken as", "unit", "first values", "why"), sortable=False, words=(0, 1, 2, 3, 4)
        )
        self.columns.setAccessibleName("The file's columns")
        self.columns.setToolTip(tip("Click a column to change its role or unit"))
        self.columns.row_clicked.connect(self.ask_role)
        self.columns.row_asked.connect(self.ask_role)
        self._columns_title = Label("Its columns")
        self.table = FigureTable(self.look, ("time, s", "current, A"), sortable=False)
        self.notes = Label()
        self.notes.setWordWrap(True)
        self._raw_title = Label("The file's first lines")
        right.addWidget(self.plot, 2)
        right.addWidget(self._raw_title)
        right.addWidget(self.raw)
        right.addWidget(self._columns_title)
        right.addWidget(self.columns, 3)
        right.addWidget(Label("Read as"))
        right.addWidget(self.table, 3)
        right.addWidget(self.notes)
        row.addLayout(right, 1)

    def _build_fields(self) -> QWidget:
        px = self.look.px
        panel = QWidget()
        panel.setObjectName("panel")
        panel.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        panel.setFixedWidth(px(344))
        column = QVBoxLayout(panel)
        column.setContentsMargins(px(16), px(12), px(16), px(12))
        fields = QWidget()
        grid = QGridLayout(fields)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(px(8))
        grid.setVerticalSpacing(px(5))
        grid.setColumnStretch(1, 1)
        self._fill_grid(grid)
        self.beside = Label()
        self.beside.setWordWrap(True)
        grid.setRowStretch(99, 1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(fields)
        column.addWidget(scroll, 1)
        column.addWidget(self.beside)
        column.addLayout(self._build_buttons())
        return panel

    def _fill_grid(self, grid: QGridLayout) -> None:
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the capture")
        self._add_field(grid, "name", self.name)
        for words in ("current", "unit", "time", "voltage", "delimiter", "decimal", "dates", "gaps", "samples are"):
            box = QComboBox()
            box.setAccessibleName(words)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.activated.connect(self.refresh)
            self.choices[words] = box
            self._add_field(grid, words, box)
        for words, unit in (
            ("rate", "Hz"),
            ("supply", "V"),
            ("shunt", "Ω"),
            ("gain", ""),
            ("amplifier's offset", "V"),
            ("ampere per count", "A"),
        ):
            edit = QuantityEdit(self.look, unit, words, 140, low=-1e30)
            edit.value_entered.connect(lambda _value: self.refresh())
            edit.setPlaceholderText({"gain": "1", "rate": "from the times"}.get(words, "none"))
            self.numbers[words] = edit
            self._add_field(grid, words, edit)

    def _build_buttons(self) -> QVBoxLayout:
        self.import_button = QPushButton("Import")
        self.import_button.setToolTip("Ctrl+Return")
        self.import_button.clicked.connect(self.accept)
        self.skip_button = QPushButton("Leave it out")
        self.skip_button.setToolTip("Esc")
        self.skip_button.clicked.connect(self.skip)
        self.all_button = QPushButton("Import all")
        self.all_button.setToolTip("All that wait, each read as this one is. Ctrl+Shift+Return")
        self.all_button.clicked.connect(self.accept_all)
        one = QHBoxLayout()
        one.addWidget(self.import_button, 1)
        one.addWidget(self.skip_button)
        buttons = QVBoxLayout()
        buttons.addWidget(self.all_button)
        buttons.addLayout(one)
        return buttons

    def _add_field(self, grid: QGridLayout, words: str, field: QWidget) -> None:
        self._labels[words] = Label(words)
        place = grid.rowCount()
        grid.addWidget(self._labels[words], place, 0)
        grid.addWidget(field, place, 1)

    def show_files(self, requests: list[ImportRequest]) -> None:
        """Look at files, one after another; those that wait already come first."""
        begins = not self.queue
        self.took_any &= not begins
        self._asked = len(requests) if begins else self._asked + len(requests)
        self.queue = [*self.queue, *requests]
        if begins and self.queue:
            self._begin()

    def _begin(self) -> None:
        request = self.queue[0]
        self.shown, self.problem, self._is_fresh, self.reading = None, "", True, ""
        self.name.setText(request.name)
        for box in self.choices.values():
            box.clear()
        for edit in self.numbers.values():
            edit.set_value(None)
        files = (request.events_file, request.lines_file, request.trace_file, request.elf_file)
        beside = [path.name for path in files if path is not None]
        self.beside.setText(f"With it: {', '.join(beside)}" if beside else "")
        self._fill_choices(None)
        waiting = len(self.queue)
        self.all_button.setVisible(waiting > 1)
        self.all_button.setText(f"Import all {waiting}")
        self.refresh()
        self.name.setFocus()

    def _chosen(self, words: str) -> str | None:
        data = self.choices[words].currentData()
        return data.value if isinstance(data, _Choice) else None

    def options(self) -> ImportOptions:
        """Return what the fields say.

        Raises
        ------
        BadArgumentError
            If a value is impossible.
        """
        numbers = {words: edit.value() if edit.text().strip() else None for words, edit in self.numbers.items()}
        return ImportOptions(
            rate_hz=numbers["rate"],
            unit=self._chosen("unit"),
            current_column=self._chosen("current"),
            time_column=self._chosen("time"),
            voltage_column=self._chosen("voltage"),
            shunt_ohm=numbers["shunt"],
            gain=1.0 if numbers["gain"] is None else numbers["gain"],
            offset_v=numbers["amplifier's offset"] or 0.0,
            sample_format=self._chosen("samples are"),
            scale_a=numbers["ampere per count"],
            delimiter=self._chosen("delimiter"),
            decimal=self._chosen("decimal"),
            dates=self._chosen("dates"),
            gaps_hold=self._chosen("gaps") == "hold",
        )

    def refresh(self) -> None:
        """Read the beginning of the file anew, as the fields say."""
        if not self.queue:
            return
        try:
            options = self.options()
        except BadArgumentError as error:
            self._show_problem(error)
            return
        path = self.queue[0].file
        self.controller.jobs.run(
            "import preview",
            f"looking at {path.name}",
            lambda should_stop, _progress: preview(path, options, should_stop=should_stop),
            self._show_preview,
            self._show_problem,
            quiet=True,
        )

    def _show_problem(self, error: Exception) -> None:
        self.problem = error.one_line if isinstance(error, WarmEmberError) else f"it cannot be read: {error}"
        self.shown = None
        self.plot.show_preview(None)
        self.table.show_rows([])
        self.notes.setText("")
        self._show_raw(())
        self._show_columns((), ())
        self._offer_sample_formats(shown=True)  # numbers without a header need no ending that says so
        self.import_button.setEnabled(False)
        self.all_button.setEnabled(False)
        if isinstance(error, ColumnError):
            self._show_columns(error.titles, ())
            self._fill_columns(error.titles, ("not found", "not found", "not found"))
            self._read_as_before(error.titles)
        self._look_at_lines()
        self.changed.emit()

    def _look_at_lines(self) -> None:
        """Show the first lines of a file that cannot be read: they say why."""
        path = self.queue[0].file
        self.controller.jobs.run(
            "import lines",
            f"looking at {path.name}",
            lambda _stop, _progress: first_lines(path),
            lambda lines: self._show_raw(lines) if self.shown is None else None,
            lambda _error: None,
            quiet=True,
        )

    def _show_preview(self, shown: Preview) -> None:
        self.shown, self.problem = shown, ""
        self.plot.show_preview(shown)
        self.table.set_header(shown.header)
        self.table.show_rows([[(cell, cell) for cell in row] for row in shown.rows])
        self._show_raw(shown.raw_lines)
        self.notes.setText("Assumed: " + "; ".join(shown.notes) + "." if shown.notes else "Nothing had to be assumed.")
        self._show_columns(shown.columns, shown.shown)
        self._fill_choices(shown)
        self.import_button.setEnabled(True)
        self.all_button.setEnabled(True)
        self._read_as_before(shown.columns)
        self.changed.emit()

    def _show_raw(self, lines: tuple[str, ...]) -> None:
        font = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
        font.setPointSizeF(self.look.font("small").pointSizeF())
        self.raw.setFont(font)
        self.raw.setFixedHeight(QFontMetrics(font).lineSpacing() * max(len(lines), 1) + self.look.px(18))
        self.raw.setPlainText("\n".join(lines))
        self.raw.setVisible(bool(lines))
        self._raw_title.setVisible(bool(lines))

    def _show_columns(self, titles: tuple[str, ...], shown: tuple[ShownColumn, ...]) -> None:
        """Show each column with what it was taken for; of a file that cannot be read yet, which there are."""
        self._titles = titles
        rows = [(one.title, one.role, one.unit, one.values, one.why) for one in shown]
        rows = rows or [(title, "?", "", "", "") for title in titles]
        self.columns.show_rows([[(cell, cell) for cell in row] for row in rows])
        self.columns.setMaximumHeight(self.look.px(30 + 21 * max(len(rows), 1)))
        self.columns.setVisible(bool(titles))
        self._columns_title.setVisible(bool(titles))

    def ask_role(self, row: int) -> None:
        """Ask what a column is to be taken as."""
        menu = QMenu(self.columns)
        for words in _ROLES:
            menu.addAction(f"Take as {words}", partial(self.choose, words, str(row + 1)))
        menu.addSeparator()
        for unit in _UNITS:
            menu.addAction(f"Current in {unit}", partial(self.choose, "unit", unit))
        menu.addSeparator()
        menu.addAction("As it was found", partial(self.forget, row))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(QCursor.pos())

    def choose(self, words: str, value: str) -> None:
        """Choose an entry of one of the choices by its value."""
        self._set_choice(words, value)
        self.refresh()

    def forget(self, row: int) -> None:
        """Leave it to be found out again what a column is."""
        for words in _ROLES:
            if self._chosen(words) == str(row + 1):
                self.choices[words].setCurrentIndex(0)
        self.refresh()

    def _read_as_before(self, titles: tuple[str, ...]) -> None:
        """Read a file as one with the same header was read before, unless something was chosen for it already."""
        found = named_for(titles) if self._is_fresh and titles else None
        self._is_fresh = False
        if found is None or self.options() != ImportOptions():
            return
        self.reading, reading = found
        for words, field in _COLUMN_FIELDS.items():
            title = reading.options.get(field)
            if title in titles:
                self._set_choice(words, str(titles.index(str(title)) + 1))
        for words, field in (("unit", "unit"), ("delimiter", "delimiter"), ("decimal", "decimal"), ("dates", "dates")):
            self._set_choice(words, str(reading.options.get(field, "")))
        self._set_choice("gaps", "hold" if reading.options.get("gaps_hold") else "")
        for words, field in _NUMBER_FIELDS.items():
            value = reading.options.get(field)
            if isinstance(value, float | int):
                self.numbers[words].set_value(float(value))
        self.beside.setText("\n".join(filter(None, (self.beside.text(), f"Read as “{self.reading}” says"))))
        self.refresh()

    def _set_choice(self, words: str, value: str) -> None:
        box = self.choices[words]
        places = [
            k for k in range(box.count()) if isinstance(box.itemData(k), _Choice) and box.itemData(k).value == value
        ]
        if places:
            box.setCurrentIndex(places[0])

    def _fill_choices(self, shown: Preview | None) -> None:
        titles = shown.columns if shown is not None else ()
        taken = ("", "", "")
        if shown is not None and titles:
            numbers = (shown.current, shown.time, shown.voltage)
            found = tuple(f"{titles[number - 1]} (found)" if number else "none" for number in numbers)
            taken = (found[0], found[1], found[2])
        self._fill_columns(titles, taken)
        self._fill("unit", "from the header", [_Choice(unit, unit) for unit in _UNITS])
        delimited = shown is None or bool(shown.delimiter)
        sign_name = DELIMITER_NAMES.get(shown.delimiter, "") if shown is not None else ""
        names = [_Choice(name, sign) for sign, name in DELIMITER_NAMES.items()]
        self._fill("delimiter", f"{sign_name} (found)" if sign_name else _BY_ITSELF, names, shown=delimited)
        sign = {".": "point", ",": "comma"}.get(shown.decimal if shown is not None else "", "")
        self._fill(
            "decimal",
            f"{sign} (found)" if sign else _BY_ITSELF,
            [_Choice("point", "."), _Choice("comma", ",")],
            shown=delimited,
        )
        self._fill("dates", "automatic", [_Choice(one, one) for one in DATE_ORDERS], shown=delimited)
        self._fill("gaps", "are missing", [_Choice("hold the value before", "hold")], shown=bool(titles))
        ending = self.queue[0].file.suffix.lower() if self.queue else ""
        self._offer_sample_formats(shown=ending in _RAW_ENDINGS or self._chosen("samples are") is not None)

    def _offer_sample_formats(self, *, shown: bool) -> None:
        formats = [_Choice(name, name) for name in _FORMATS]
        self._fill("samples are", "by the file's ending", formats, shown=shown)
        self.numbers["ampere per count"].setVisible(shown)
        self._labels["ampere per count"].setVisible(shown)

    def _fill_columns(self, titles: tuple[str, ...], taken: tuple[str, str, str]) -> None:
        """Let current, time and voltage be picked from the file's columns."""
        columns = [_Choice(title, str(index + 1)) for index, title in enumerate(titles)]
        for words, found in zip(("current", "time", "voltage"), taken, strict=True):
            self._fill(words, found, columns, shown=bool(titles))

    def _fill(self, words: str, found: str, choices: list[_Choice], *, shown: bool = True) -> None:
        """Fill a choice and keep what is chosen; its first entry leaves it to be found out."""
        box = self.choices[words]
        kept = self._chosen(words)
        entries = [_Choice(found, None), *choices]
        box.blockSignals(True)
        box.clear()
        for entry in entries:
            box.addItem(entry.text, entry)
        box.setCurrentIndex(next((k for k, entry in enumerate(entries) if entry.value == kept), 0))
        box.blockSignals(False)
        box.setVisible(shown)
        self._labels[words].setVisible(shown)

    def accept(self) -> None:
        """Import the file as it is shown, and go on to the next."""
        if self.queue and self.shown is not None:
            self._keep_reading()
            self._ask(self.queue[0], self.name.text().strip())
            self._next()

    def accept_all(self) -> None:
        """Import all files that wait, each read as the one that is shown; those that cannot be are told of."""
        if self.queue and self.shown is not None:
            self._keep_reading()
            first, *others = self.queue
            self._ask(first, self.name.text().strip())
            for request in others:
                self._ask(request, request.name)
            self.queue = self.queue[:1]
            self._next()

    def _ask(self, request: ImportRequest, name: str) -> None:
        supply = self.numbers["supply"]
        supply_v = supply.value() if supply.text().strip() else None
        self.took_any = True
        self.import_asked.emit(replace(request, options=self.options(), name=name, supply_v=supply_v))

    def _keep_reading(self) -> None:
        """Remember what was chosen for files with the same header."""
        reading = reading_of(self._titles, self.options())
        if reading is None:
            return
        try:
            name = keep(self.reading or self.queue[0].file.stem, reading)
        except (OSError, BadArgumentError) as error:
            self.controller.noted.emit(f"What was chosen could not be kept: {error}")
            return
        self.controller.noted.emit(f"Files with these columns are read like this from now on (“{name}”)")

    def skip(self) -> None:
        """Leave the file out, and go on to the next."""
        self._next()

    def _next(self) -> None:
        self.controller.jobs.stop("import preview")
        self.controller.jobs.stop("import lines")
        self.queue = self.queue[1:]
        if self.queue:
            self._begin()
        else:
            self.finished.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        ctrl = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if event.key() == Qt.Key.Key_Escape:
            self.skip()
        elif ctrl and shift and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.accept_all()
        elif ctrl and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.accept()
        else:
            super().keyPressEvent(event)

    def sentence(self) -> str:
        """Return what the file would become, as rich text."""
        if not self.queue:
            return ""
        name = self.queue[0].file.name
        if self._asked > 1:
            name = f"File **{self._asked - len(self.queue) + 1}** of **{self._asked}**: {name}"
        if self.shown is None:
            return f"{name} cannot be read like this." if self.problem else f"Looking at {name} …"
        series, shown = self.shown.beginning, self.shown
        rate = quantity_text(1 / shown.interval_s, "S/s").rich
        average = quantity_text(shown.mean_a, "A").rich
        length = duration_text(series.samples * shown.interval_s).rich
        part = f"its {length}" if shown.whole else f"the first {length}"
        missing = f", {percent_text(shown.missing / series.samples).rich} missing" if shown.missing else ""
        return f"{name} holds {rate}; {part} draw {average} on average{missing}."

    def warning(self) -> str:
        """Return why it cannot be imported like this."""
        return self.problem
