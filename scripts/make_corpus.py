"""Write the files of tests/data/files, in the style of many writers, with what is in each.

.venv/bin/python scripts/make_corpus.py
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import h5py
import numpy as np
import pyarrow as pa
from made_tables import ODD, make
from pyarrow import feather, parquet

FOLDER = Path(__file__).parents[1] / "tests" / "data" / "files"
ROWS, INTERVAL_S = 30, 0.5
CURRENT_A = np.round(np.random.default_rng(5).uniform(1e-3, 9e-3, ROWS), 6)
TIMES_S = np.arange(ROWS) * INTERVAL_S


def rows(line: str) -> str:
    """Write a line for each sample: ``t`` s, ``a`` A, ``ma`` mA, ``ua`` µA, ``n`` its number."""
    pairs = enumerate(zip(TIMES_S.tolist(), CURRENT_A.tolist(), strict=True))
    values = (
        {"n": n, "t": t, "a": a, "ma": 1e3 * a, "ua": 1e6 * a, "ms": 1772445600000 + round(1000 * t)}
        for n, (t, a) in pairs
    )
    return "".join(line.format(**one) + "\n" for one in values)


def comma(text: str) -> str:
    """Write decimal commas."""
    return text.replace(".", ",")


TEXTS: dict[str, str | bytes] = {
    "bench_meter.csv": "Meter log\nSerial No.,104\n\nReading,Time (s),DC Current (A)\n" + rows("{n},{t:.3f},{a:.9f}"),
    "bench_supply.csv": "Timestamp,Set Voltage (V),Meas Voltage (V),Set Current (A),Meas Current (A),OCP (A)\n"
    + rows("2026-03-02 10:00:{t:06.3f},3.300,3.298,1.000,{a:.6f},1.500"),
    "scope.csv": "Source,CH1\nVertical scale,0.1\n\nx-axis,1\nsecond,Ampere\n" + rows("{t:.6e},{a:.6e}"),
    "spreadsheet_german.csv": "\ufeffZeit (s);Strom (mA);Bemerkung\r\n" + comma(rows("{t:.1f};{ma:.3f};ok\r")),
    "spreadsheet_unicode.txt": ("Time (s)\tCurrent (µA)\r\n" + rows("{t:.1f}\t{ua:.1f}\r")).encode("utf-16"),
    "spreadsheet_thousands.csv": "Time (s),Current (uA)\n" + rows('{t:.1f},"{ua:,.1f}"'),
    "frame_with_index.csv": ",time_s,current_mA\n" + rows("{n},{t},{ma:.6f}"),
    "frame_durations.csv": "time,current_mA\n" + rows("0 days 00:00:{t:09.6f},{ma:.6f}"),
    "matrix_with_row_names.csv": '"time","current"\n' + rows('"{n}",{t},{a:.9f}'),
    "matrix_ascii.dat": rows("   {t:.7e}   {a:.7e}"),
    "plot_with_comments.dat": "# time [s]|I [mA]\n" + rows("{t:.2f}|{ma:.4f}").replace("\n7.00", "\n# open\n7.00"),
    "serial_log.txt": "time,reading\n" + rows("{t:.1f} s,{ma:.3f} mA"),
    "autoranging_meter.csv": "Elapsed (s);Current\n" + rows("{t:.1f};{ua:.0f} uA"),
    "value_and_unit.csv": "Time (s),Current,Unit\n" + rows("{t:.1f},{ma:.4f},mA"),
    "logger_semicolons.csv": "Datum;Uhrzeit;I (mA)\n" + comma(rows("2026-03-02;10:00:{t:04.1f};{ma:.4f}")),
    "american_clock.csv": "Time,Current (mA)\n" + rows("3/22/2026 1:00:{t:04.1f} PM,{ma:.4f}"),
    "epoch_milliseconds.csv": "ts,current_uA\n" + rows("{ms},{ua:.1f}"),
    "cut_power.csv": ("t (s),I (A)\n" + rows("{t:.1f},{a:.6f}")).encode() + b"\0" * 700,
    "old_mac.csv": ("Time (s),Current (mA)\n" + rows("{t:.1f},{ma:.3f}")).replace("\n", "\r"),
    "overrange.csv": "Time (s),Current (mA),Status\n" + rows("{t:.1f},{ma:.3f},ok") + "15.0,OL,over\n",
    "two_channels.csv": "Time (s),CH1 Current (A),CH2 Current (A)\n" + rows("{t:.1f},{a:.6f},{a:.6f}"),
    "charge_only.csv": "Time (s),Charge (mAh)\n" + rows("{t:.1f},{ma:.6f}"),
    "ambiguous_dates.csv": "Time,Current (A)\n" + rows("0{n}/04/2026 10:00:00,{a:.6f}")[:300],
}  # fmt: skip


def main() -> None:
    """Write all of them."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    for old in FOLDER.iterdir():
        old.unlink()
    truth: dict[str, dict[str, Any]] = {}
    for name, text in TEXTS.items():
        (FOLDER / name).write_bytes(text if isinstance(text, bytes) else text.encode())
        refused = name in ("two_channels.csv", "charge_only.csv", "ambiguous_dates.csv")
        known = {"mean_a": float(CURRENT_A.mean()), "interval_s": INTERVAL_S, "samples": ROWS}
        truth[name] = {"refused": True} if refused else known
    truth["overrange.csv"] = {**truth["overrange.csv"], "samples": ROWS + 1, "told": "out of the instrument's range"}
    for number, odd in enumerate(ODD):
        table = make(np.random.default_rng([20261130, number]), (odd,))
        name = f"odd_{odd.replace(' ', '_').replace('-', '_')}.csv"
        (FOLDER / name).write_bytes(table.content)
        mean_a = float(np.nanmean(table.current_a))
        truth[name] = {"mean_a": mean_a, "interval_s": table.interval_s, "samples": len(table.current_a)}
        if table.is_open:
            open_unit = {key: truth[name][key] for key in ("interval_s", "samples")} | {"told": "assumed"}
            truth[name] = open_unit if odd == "no unit" else {"refused": True}
    _containers(truth)
    (FOLDER / "truth.json").write_text(json.dumps(truth, indent=1, sort_keys=True) + "\n")


def _containers(truth: dict[str, dict[str, Any]]) -> None:
    known = {"mean_a": float(CURRENT_A.mean()), "interval_s": INTERVAL_S, "samples": ROWS}
    table = pa.table({"time_s": TIMES_S, "current_mA": 1e3 * CURRENT_A, "note": ["ok"] * ROWS})
    parquet.write_table(table, FOLDER / "table.parquet")
    feather.write_feather(table, FOLDER / "table.feather", compression="uncompressed")
    np.save(FOLDER / "columns.npy", np.asfortranarray(np.column_stack([TIMES_S, CURRENT_A])))
    stamped = np.zeros(ROWS, [("time", "datetime64[ms]"), ("current (A)", "f8")])
    stamped["time"] = np.datetime64("2026-03-02T10:00:00") + (1000 * TIMES_S).astype("timedelta64[ms]")
    stamped["current (A)"] = CURRENT_A
    np.save(FOLDER / "stamped.npy", stamped)
    with h5py.File(FOLDER / "compound.h5", "w") as file:
        file["log"] = np.array(list(zip(TIMES_S, CURRENT_A, strict=True)), [("time_s", "f8"), ("current_A", "f8")])
    with h5py.File(FOLDER / "scaled.h5", "w") as file:
        file["time"], file["current"] = TIMES_S, np.round(CURRENT_A / 1e-6).astype("i4")
        file["time"].attrs["units"] = "seconds since 2026-03-02 10:00:00"
        file["current"].attrs.update(units="A", scale_factor=1e-6)
    for name in ("table.parquet", "table.feather", "columns.npy", "stamped.npy", "compound.h5", "scaled.h5"):
        truth[name] = known


if __name__ == "__main__":
    main()
