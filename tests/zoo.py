"""Tables as people write them, each with what is to become of it."""

from __future__ import annotations

import io
import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Any

import openpyxl
import pandas as pd

Readings = Mapping[str, Sequence[float]]


@dataclass(frozen=True)
class Table:
    """A file, how it is read, and what comes of it.

    ``right`` has readings by "configuration/workload/metric" in order; ``asked`` is what is asked
    where nothing settles it, and ``options`` what settles it; ``refused`` is what the refusal says.
    ``told`` is what else is said.
    """

    content: str | bytes
    right: Readings = field(default_factory=dict)
    options: tuple[str, ...] = ()
    asked: str = ""
    refused: str = ""
    told: tuple[str, ...] = ()


def workbook(
    *sheets: tuple[str, list[list[Any]]], change: Callable[[Any], None] | None = None
) -> bytes:
    book, buffer = openpyxl.Workbook(), io.BytesIO()
    book.remove(book.active)
    for name, rows in sheets:
        sheet = book.create_sheet(name)
        for row in rows:
            sheet.append(row)
        if change is not None:
            change(sheet)
    book.save(buffer)
    return buffer.getvalue()


def one_sheet(*rows: list[Any], change: Callable[[Any], None] | None = None) -> bytes:
    return workbook(("Sheet1", [*rows]), change=change)


def in_per_cent(sheet: Any) -> None:
    for (cell,) in sheet["B2:B3"]:
        cell.number_format = "0 %"


def merged(sheet: Any) -> None:
    sheet.merge_cells("B1:C1")
    sheet.merge_cells("D1:E1")


def down(sheet: Any) -> None:
    sheet.merge_cells("A2:A3")
    sheet.merge_cells("A4:A5")


def ods(frame: pd.DataFrame) -> bytes:
    buffer = io.BytesIO()
    with pd.ExcelWriter(buffer, engine="odf") as writer:
        frame.to_excel(writer, index=False)
    return buffer.getvalue()


TWO = {"Halden-4/t/fps": [57.2], "Halden-5/t/fps": [62.1]}
SCENES = {
    "Halden-4/flight/score": [57.2], "Halden-5/flight/score": [62.1],
    "Halden-4/export/score": [38120.0], "Halden-5/export/score": [39001.0],
}  # fmt: skip
RUNS = {"Halden-4/t/score": [57.2, 57.4, 56.9], "Halden-5/t/score": [62.1, 61.8, 62.0]}
BOTH = {
    "Halden-4/t/Frame-rate": [57.2], "Halden-4/t/Load-time": [21.4],
    "Halden-5/t/Frame-rate": [62.1], "Halden-5/t/Load-time": [19.9],
}  # fmt: skip
OVER = {
    "Halden-4/flight/Frame-rate": [57.0], "Halden-4/flight/Load": [21.0],
    "Halden-5/flight/Frame-rate": [62.0], "Halden-5/flight/Load": [20.0],
    "Halden-4/lobby/Frame-rate": [88.0], "Halden-4/lobby/Load": [11.0],
    "Halden-5/lobby/Frame-rate": [90.0], "Halden-5/lobby/Load": [10.0],
}  # fmt: skip
FLIGHT = {"Halden-4/t/time": [205.0], "Halden-5/t/time": [185.0]}
NAMED = ("--column", "configuration=System")

ZOO: dict[str, Table] = {
    # Shapes.
    "long.csv": Table(
        "configuration,workload,metric,value,unit\nHalden 4,t,fps,57.2,fps\n"
        "Halden 5,t,fps,62.1,fps\n",
        TWO,
    ),
    "wide.csv": Table(
        "Scene,Halden 4,Halden 5\nflight,57.2,62.1\nexport,38120,39001\n", SCENES
    ),
    "t.metrics.csv": Table(
        "System,Frame rate (fps),Load time (s)\nHalden 4,57.2,21.4\nHalden 5,62.1,19.9\n", BOTH
    ),
    "t.brackets.csv": Table(
        "OS;Frame rate [fps];Load time [s]\nHalden 4;57,2;21,4\nHalden 5;62,1;19,9\n", BOTH
    ),
    "t.units.csv": Table(
        "System,Frame rate,Load time\n,fps,s\nHalden 4,57.2,21.4\nHalden 5,62.1,19.9\n", BOTH
    ),
    "t.rows.csv": Table(
        "System,Frame rate (fps)\nHalden 4,57\nHalden 4,58\nHalden 5,62\nHalden 5,61\n",
        {"Halden-4/t/Frame-rate": [57.0, 58.0], "Halden-5/t/Frame-rate": [62.0, 61.0]},
    ),
    "t.runs.csv": Table(
        "System,run 1,run 2,run 3\nHalden 4,57.2,57.4,56.9\nHalden 5,62.1,61.8,62.0\n", RUNS
    ),
    "t.named.csv": Table(
        "Box,Run 1,Run 2,Run 3\nHalden 4,57.2,57.4,56.9\nHalden 5,62.1,61.8,62.0\n", RUNS,
        ("--column", "configuration=Box"),
    ),
    "t.numbered.csv": Table(
        "System,1,2,3\nHalden 4,57.2,57.4,56.9\nHalden 5,62.1,61.8,62.0\n", RUNS
    ),
    "both.runs.csv": Table(
        "Scene,Halden 4 run 1,Halden 4 run 2,Halden 5 run 1,Halden 5 run 2\nflight,57,58,62,61\n",
        {"Halden-4/flight/score": [57.0, 58.0], "Halden-5/flight/score": [62.0, 61.0]},
    ),
    "two.headers.csv": Table(
        ",Halden 4,,Halden 5,\nScene,Frame rate (fps),Load (s),Frame rate (fps),Load (s)\n"
        "flight,57,21,62,20\nlobby,88,11,90,10\n", OVER,
    ),
    "repeated.headers.csv": Table(
        ",Halden 4,Halden 4,Halden 5,Halden 5\n"
        "Scene,Frame rate (fps),Load (s),Frame rate (fps),Load (s)\n"
        "flight,57,21,62,20\nlobby,88,11,90,10\n", OVER,
    ),
    "merged.xlsx": Table(
        one_sheet(
            [None, "Halden 4", None, "Halden 5", None],
            ["Scene", "Frame rate (fps)", "Load (s)", "Frame rate (fps)", "Load (s)"],
            ["flight", 57, 21, 62, 20], ["lobby", 88, 11, 90, 10], change=merged,
        ), OVER,
    ),
    "sheets.xlsx": Table(
        workbook(
            ("Halden 4", [["Scene", "Frame rate (fps)"], ["flight", 57], ["lobby", 88]]),
            ("Halden 5", [["Scene", "Frame rate (fps)"], ["flight", 62], ["lobby", 90]]),
            ("About", [["Measured in the dome"]]),
        ),
        {"Halden-4/flight/Frame-rate": [57.0], "Halden-4/lobby/Frame-rate": [88.0],
         "Halden-5/flight/Frame-rate": [62.0], "Halden-5/lobby/Frame-rate": [90.0]},
    ),
    "other.sheets.xlsx": Table(
        workbook(
            ("Scores", [["System", "fps"], ["Halden 4", 57.2], ["Halden 5", 62.1]]),
            ("Costs", [["Item", "EUR", "Year"], ["lamp", 900, 2026]]),
        ),
        {"Halden-4/other.sheets/fps": [57.2], "Halden-5/other.sheets/fps": [62.1]},
        ("--sheet", "Scores"), asked="--sheet",
    ),
    "table.md": Table(
        "# Dome\n\n| System | fps |\n|:--|--:|\n| **Halden 4** | 57.2 |\n| Halden 5 | 62.1 |\n",
        {"Halden-4/table/fps": [57.2], "Halden-5/table/fps": [62.1]},
    ),
    "two.md": Table(
        "## Halden 4\n\n| Scene | fps |\n|---|---|\n| flight | 57 |\n\n"
        "## Halden 5\n\n| Scene | fps |\n|---|---|\n| flight | 62 |\n",
        {"Halden-4/flight/fps": [57.0], "Halden-5/flight/fps": [62.0]},
    ),
    "nested.json": Table(
        json.dumps({"meta": {"by": "hand"}, "results": {"rows": [
            {"system": "Halden 4", "metrics": {"fps": 57.2}},
            {"system": "Halden 5", "metrics": {"fps": 62.1}},
        ]}}),
        {"Halden-4/nested/fps": [57.2], "Halden-5/nested/fps": [62.1]},
        ("--path", "/results/rows"), asked="--path",
    ),
    "by.name.json": Table(
        json.dumps({"Halden 4": {"fps": 57.2}, "Halden 5": {"fps": 62.1}}),
        {"Halden-4/by.name/fps": [57.2], "Halden-5/by.name/fps": [62.1]},
    ),
    "titled.json": Table(
        json.dumps({"title": "Dome lab", "Halden 4": {"fps": 57.2}, "Halden 5": {"fps": 62.1}}),
        refused="must be a JSON array of objects",
    ),
    "lists.json": Table(
        json.dumps(
            [{"system": "Halden 4", "fps": [57, 58]}, {"system": "Halden 5", "fps": [62, 61]}]
        ),
        {"Halden-4/lists/fps": [57.0, 58.0], "Halden-5/lists/fps": [62.0, 61.0]},
    ),
    "t.ods": Table(
        ods(pd.DataFrame({"System": ["Halden 4", "Halden 5"], "fps": [57.2, 62.1]})), TWO
    ),
    "factors.csv": Table(
        "Driver,API,Frame rate (fps)\nr61,opengl,57\nr61,vulkan,62\nr64,opengl,60\nr64,vulkan,66\n",
        {"r61+opengl/factors/Frame-rate": [57.0], "r61+vulkan/factors/Frame-rate": [62.0],
         "r64+opengl/factors/Frame-rate": [60.0], "r64+vulkan/factors/Frame-rate": [66.0]},
    ),
    # What stands around a table.
    "t.title.csv": Table(
        "Dome lab, May\n\nSystem,fps\nHalden 4,57.2\nHalden 5,62.1\n", TWO
    ),
    "t.titles.csv": Table(
        "Dome lab,\nMeasured:,2026-05-03\n,\nSystem,fps\nHalden 4,57.2\nHalden 5,62.1\n", TWO
    ),
    "t.direction.csv": Table(
        "Time per show in s (lower is better)\nSystem,time\nHalden 4,205\nHalden 5,185\n", FLIGHT,
    ),
    "sections.csv": Table(
        "Scene,Halden 4,Halden 5\nDome,,\nflight,57,62\nLobby,,\nexport,11,10\n",
        {"Halden-4/flight/score": [57.0], "Halden-5/flight/score": [62.0],
         "Halden-4/export/score": [11.0], "Halden-5/export/score": [10.0]},
    ),
    "t.notes.csv": Table(
        "System,fps\nHalden 4,57.2*\nHalden 5,62.1\n\n* second projector\n", TWO,
    ),
    "t.below.csv": Table(
        "System,fps\nHalden 4,57.2\nHalden 5,62.1\n\nMeasured by hand\n", TWO,
    ),
    "down.xlsx": Table(
        one_sheet(
            ["System", "Scene", "fps"], ["Halden 4", "flight", 57], [None, "lobby", 88],
            ["Halden 5", "flight", 62], [None, "lobby", 90], change=down,
        ),
        {"Halden-4/flight/fps": [57.0], "Halden-4/lobby/fps": [88.0], "Halden-5/flight/fps": [62.0],
         "Halden-5/lobby/fps": [90.0]},
    ),
    "down.csv": Table(
        "System,Scene,fps\nHalden 4,flight,57\n,lobby,88\nHalden 5,flight,62\n,lobby,90\n",
        {"Halden-4/flight/fps": [57.0], "Halden-4/lobby/fps": [88.0], "Halden-5/flight/fps": [62.0],
         "Halden-5/lobby/fps": [90.0]},
        ("--fill-down",), asked="--fill-down",
    ),
    # Summaries.
    "change.csv": Table(
        "Scene,Halden 4,Halden 5,Change\nflight,57.2,62.1,8.6 %\nexport,38120,39001,+2.3 %\n",
        SCENES, told=('column "Change"',),
    ),
    "per.cent.csv": Table(
        "Scene,Halden 4,Halden 5,%\nflight,57.2,62.1,108.6\nexport,38120,39001,102.3\n",
        SCENES, told=('column "%"',),
    ),
    "other.change.csv": Table(
        "Scene,Halden 4,Halden 5,Change\nflight,57.2,62.1,40\nexport,38120,39001,50\n",
        SCENES, ("--ignore", "Change"), asked='--ignore "Change"',
    ),
    "t.mean.csv": Table(
        "System,run 1,run 2,run 3,Average,SD\nHalden 4,57.2,57.4,56.9,57.17,0.25\n"
        "Halden 5,62.1,61.8,62.0,61.97,0.15\n", RUNS, told=('column "Average"', 'column "SD"'),
    ),
    "t.wrong.mean.csv": Table(
        "System,run 1,run 2,run 3,Average\nHalden 4,57.2,57.4,56.9,75.1\n"
        "Halden 5,62.1,61.8,62.0,61.9\n", RUNS, ("--ignore", "Average"), asked="Average",
    ),
    "t.number.csv": Table(
        "Nr,System,fps,Rank\n1,Halden 4,57.2,2\n2,Halden 5,62.1,1\n", TWO,
        told=('column "Nr"', 'column "Rank"'),
    ),
    "total.csv": Table(
        "Scene,Halden 4,Halden 5\nflight,57.2,62.1\nexport,38120,39001\nTotal,38177.2,39063.1\n",
        SCENES, told=('row "Total"',),
    ),
    "geomean.csv": Table(
        "Scene,Halden 4,Halden 5\nflight,57.2,62.1\nexport,38120,39001\nGeomean,1476.6,1556.3\n",
        SCENES, told=('row "Geomean"',),
    ),
    "unnamed.sum.csv": Table(
        "Scene,Halden 4,Halden 5\nflight,157.2,162.1\nexport,381.2,390.1\nlobby,700.5,712.3\n"
        "All,1238.9,1264.5\n",
        {"Halden-4/flight/score": [157.2], "Halden-5/flight/score": [162.1],
         "Halden-4/export/score": [381.2], "Halden-5/export/score": [390.1],
         "Halden-4/lobby/score": [700.5], "Halden-5/lobby/score": [712.3]},
        ("--ignore", "All"), asked='--ignore "All"',
    ),
    "t.lows.csv": Table(
        "System,Average (fps),Minimum (fps)\nHalden 4,57.2,31\nHalden 5,62.1,28\n",
        {"Halden-4/t/Average": [57.2], "Halden-4/t/Minimum": [31.0], "Halden-5/t/Average": [62.1],
         "Halden-5/t/Minimum": [28.0]},
    ),
    "asked.csv": Table(
        "Name,A,B\nx,57,38\ny,61,39\n",
        {"A/x/score": [57.0], "A/y/score": [61.0], "B/x/score": [38.0], "B/y/score": [39.0]},
        ("--across", "configuration"), asked="--across",
    ),
    "two.names.csv": Table(
        "Who,What,Frame rate (fps),Load (s)\na,x,57,21\nb,x,62,20\n",
        {"a/x/Frame-rate": [57.0], "a/x/Load": [21.0],
         "b/x/Frame-rate": [62.0], "b/x/Load": [20.0]},
        ("--column", "configuration=Who", "--column", "workload=What"),
        asked="--column configuration=NAME",
    ),
    "mode.csv": Table(
        "configuration,workload,value,Mode\nHalden 4,t,57,quiet\nHalden 4,t,75,loud\n"
        "Halden 5,t,62,quiet\nHalden 5,t,80,loud\n",
        {"Halden-4+quiet/t/score": [57.0], "Halden-4+loud/t/score": [75.0],
         "Halden-5+quiet/t/score": [62.0], "Halden-5+loud/t/score": [80.0]},
        ("--factor", "configuration", "--factor", "Mode"), asked='column "Mode" tells rows apart',
    ),
    "quotient.csv": Table(
        "Workload,native,translated,translated / native\nflight,57.2,50.1,0.876\n"
        "export,211,250,1.185\n",
        {"native/flight/score": [57.2], "translated/flight/score": [50.1],
         "native/export/score": [211.0], "translated/export/score": [250.0]},
        ("--ignore", "translated / native"), asked="is the change from",
    ),
    "t.numbered.names.csv": Table(
        "System,Score 1,Score 2,Score 3\nHalden 4,57.2,57.4,56.9\nHalden 5,62.1,61.8,62.0\n",
        RUNS, ("--across", "run"), asked="--across run",
    ),
    "t.beside.runs.csv": Table(
        "System,#1,#2,#3,Setting\nHalden 4,57.2,57.4,56.9,7\nHalden 5,62.1,61.8,62.0,7\n",
        RUNS, ("--ignore", "Setting"), asked="stands beside runs",
    ),
    "t.inner.change.csv": Table(
        "System,fps,fps change (%)\nHalden 4,57.2,\nHalden 5,62.1,8.6\n", TWO,
        ("--ignore", "fps change (%)"), asked="named like a change",
    ),
    "t.mean.and.sd.csv": Table(
        "System,mean,sd,n\nHalden 4,57.2,0.3,5\nHalden 5,62.1,0.4,5\n",
        {"Halden-4/t/score": [57.2], "Halden-5/t/score": [62.1]}, told=('column "sd"',),
    ),
    "t.extremes.csv": Table(
        "System,Min,Avg,Max\nHalden 4,31,57.2,80\nHalden 5,28,62.1,90\n",
        {"Halden-4/t/Min": [31.0], "Halden-4/t/Avg": [57.2], "Halden-4/t/Max": [80.0],
         "Halden-5/t/Min": [28.0], "Halden-5/t/Avg": [62.1], "Halden-5/t/Max": [90.0]},
    ),
    "t.room.csv": Table(
        "Room,System,fps\nA,Halden 4,57.2\nB,Halden 5,62.1\n", TWO, ("--ignore", "Room"),
        asked="may be of workloads",
    ),
    "t.machine.csv": Table(
        "Machine,System,fps\nnode-7,Halden 4,57.2\nnode-7,Halden 5,62.1\n", TWO
    ),
    "t.plus.minus.csv": Table(
        "System;fps\nHalden 4;57,2 ± 0,3\nHalden 5;62,1 (±0,4)\n", TWO
    ),
    "direction.csv": Table(
        "Scene,Lower is better,Halden 4,Halden 5\nflight,no,57.2,62.1\nexport,yes,38120,39001\n",
        SCENES,
    ),
    "euro.csv": Table(
        "Host;vCPUs;€/h;Score\nOxbow S;4;0,20;1000\nTarn 8;8;0,30;2100\n",
        {"Oxbow-S/euro/Score": [1000.0], "Tarn-8/euro/Score": [2100.0]},
    ),
    "units.in.rows.csv": Table(
        "Metric,Halden 4,Halden 5\nFrame rate (fps),57.2,62.1\nLoad time (s),21.4,19.9\n",
        {"Halden-4/units.in.rows/Frame-rate": [57.2], "Halden-4/units.in.rows/Load-time": [21.4],
         "Halden-5/units.in.rows/Frame-rate": [62.1], "Halden-5/units.in.rows/Load-time": [19.9]},
    ),
    "turned.csv": Table(
        "System,Halden 4,Halden 5\nrate,57.2,62.1\nscore,38120,39001\n",
        {"Halden-4/rate/score": [57.2], "Halden-5/rate/score": [62.1],
         "Halden-4/score/score": [38120.0], "Halden-5/score/score": [39001.0]},
        ("--across", "configuration"), asked="--across configuration",
    ),
    "t.days.csv": Table(
        "System,2026-05-03,2026-05-04\nHalden 4,57,58\nHalden 5,62,61\n",
        {"Halden-4/t/score": [57.0, 58.0], "Halden-5/t/score": [62.0, 61.0]},
        ("--across", "run"), asked="are dates",
    ),
    "t.same.csv": Table(
        "System,Memory (MB),Memory (MiB)\nHalden 4,900,858\nHalden 5,870,830\n",
        {"Halden-4/t/Memory-MB": [900.0], "Halden-4/t/Memory-MiB": [858.0],
         "Halden-5/t/Memory-MB": [870.0], "Halden-5/t/Memory-MiB": [830.0]},
    ),
    "dollar.csv": Table(
        "Host,Cost per hour,time (s)\nOxbow S,$0.20,211\nTarn 8,$0.30,131\n",
        {"Oxbow-S/dollar/time": [211.0], "Tarn-8/dollar/time": [131.0]},
    ),
    # Numbers.
    "t.zeros.csv": Table(
        "System,Score\nHalden 4,38.000\nHalden 5,39.100\n",
        {"Halden-4/t/Score": [38000.0], "Halden-5/t/Score": [39100.0]},
        ("--decimal", "comma"), asked="--decimal",
    ),
    "comma.csv": Table(
        "Scene;Halden 4;Halden 5\nflight;57,2;62,1\nexport;38.120;39.001\n", SCENES
    ),
    "thousands.csv": Table(
        'Scene,Halden 4,Halden 5\nflight,57.2,62.1\nexport,"38,120","39,001"\n', SCENES
    ),
    "either.csv": Table(
        'Scene,Halden 4,Halden 5\nflight,314,320\nexport,"38,120","39,001"\n',
        {"Halden-4/flight/score": [314.0], "Halden-5/flight/score": [320.0],
         "Halden-4/export/score": [38120.0], "Halden-5/export/score": [39001.0]},
        ("--decimal", "point"), asked="--decimal",
    ),
    "dots.csv": Table(
        "Scene;Halden 4;Halden 5\nflight;314;320\nexport;38.120;39.001\n",
        {"Halden-4/flight/score": [314.0], "Halden-5/flight/score": [320.0],
         "Halden-4/export/score": [38120.0], "Halden-5/export/score": [39001.0]},
        ("--decimal", "comma"), asked="--decimal",
    ),
    "decimals.csv": Table(
        "Scene,Halden 4,Halden 5\nflight,12.345,11.987\nexport,9.871,9.902\n",
        {"Halden-4/flight/score": [12.345], "Halden-5/flight/score": [11.987],
         "Halden-4/export/score": [9.871], "Halden-5/export/score": [9.902]},
    ),
    "blanks.csv": Table(
        "Scene;Halden 4;Halden 5\nflight;57,2;62,1\nexport;38 120;39\u202f001\n", SCENES
    ),
    "apostrophe.csv": Table(
        "Scene;Halden 4;Halden 5\nflight;57.2;62.1\nexport;38'120;39’001\n", SCENES
    ),
    "both.signs.csv": Table(
        "Scene;Halden 4;Halden 5\nflight;57,2;62.1\n", refused="a decimal comma"
    ),
    "minus.csv": Table(
        "Scene,Halden 4,Halden 5\nnoise (dB),−38.5,−40.2\n",
        {"Halden-4/noise-dB/score": [-38.5], "Halden-5/noise-dB/score": [-40.2]},
    ),
    "apart.csv": Table("Scene,Halden 4,Halden 5\nx,- 38.0,40\n", refused="write -38.0 or n/a"),
    "t.clock.csv": Table("System,time (s)\nHalden 4,3:25\nHalden 5,3:05\n", FLIGHT),
    "t.hours.csv": Table(
        "System,time (s)\nHalden 4,1:02:03\nHalden 5,0:59:00\n",
        {"Halden-4/t/time": [3723.0], "Halden-5/t/time": [3540.0]},
    ),
    "t.words.csv": Table("System,time (s)\nHalden 4,3 min 25 s\nHalden 5,3 min 5 s\n", FLIGHT),
    "t.beside.csv": Table("System,time\nHalden 4,205 s\nHalden 5,185 s\n", FLIGHT),
    "rate.clock.csv": Table(
        "System,rate (fps)\nHalden 4,3:25\nHalden 5,3:05\n", refused="is not a number in fps"
    ),
    "t.share.csv": Table(
        "System,load\nHalden 4,12 %\nHalden 5,15 %\n",
        {"Halden-4/t/load": [12.0], "Halden-5/t/load": [15.0]},
    ),
    "t.share.xlsx": Table(
        one_sheet(["System", "load"], ["Halden 4", 0.12], ["Halden 5", 0.15], change=in_per_cent),
        {"Halden-4/t/load": [12.0], "Halden-5/t/load": [15.0]},
    ),
    "mixed.share.csv": Table(
        "System,load\nHalden 4,12 %\nHalden 5,0.15\n", refused="write all with the sign or none"
    ),
    "t.remarks.csv": Table(
        "System,fps\nHalden 4,~57.2\nHalden 5,62.1 (no sound)\n", TWO
    ),
    "t.superscript.csv": Table("System,fps\nHalden 4,57.2¹\nHalden 5,62.1\n\n¹ hot day\n", TWO),
    "t.missing.csv": Table("System,fps\nHalden 4,57.2\nHalden 5,62.1\nHalden 6,n/a\n", TWO),
    "formula.xlsx": Table(
        one_sheet(["System", "fps"], ["Halden 4", 57], ["Halden 5", "=B2*2"]),
        refused="a formula whose result the file does not hold",
    ),
    # Dates, and what else goes with a reading.
    "t.dates.csv": Table(
        "System,Date,fps\nHalden 4,05.03.2026,57.2\nHalden 5,06.03.2026,62.1\n", TWO
    ),
    "t.slashes.csv": Table(
        "System,Date,fps\nHalden 4,3/5/2026,57.2\nHalden 5,3/6/2026,62.1\n", TWO,
        ("--dates", "month-first"), asked="--dates",
    ),
    "t.american.csv": Table(
        "System,Date,fps\nHalden 4,3/25/2026,57.2\nHalden 5,3/6/2026,62.1\n", TWO
    ),
    "t.date.xlsx": Table(
        one_sheet(
            ["System", "Date", "fps"], ["Halden 4", date(2026, 3, 5), 57.2],
            ["Halden 5", date(2026, 3, 6), 62.1],
        ), TWO,
    ),
    "serial.csv": Table("System,Date,fps\nHalden 4,46086,57.2\nHalden 5,46087,62.1\n",
                        refused="is not a time in ISO 8601"),
    "short.year.csv": Table(
        "System,Date,fps\nHalden 4,05.03.26,57.2\nHalden 5,06.03.26,62.1\n",
        refused="write all four",
    ),
    "hosts.csv": Table(
        "Host,Price (EUR/h),Cores,Version,time (s)\nOxbow S,0.20,4,5.1,211.5\n"
        "Tarn 8,0.30,8,5.1,131\n",
        {"Oxbow-S/hosts/time": [211.5], "Tarn-8/hosts/time": [131.0]},
    ),
    # Nothing that can be read.
    "no.header.csv": Table("halden-4,flight,57.2\nhalden-5,flight,62.1\n", refused="--header"),
    "ragged.csv": Table(
        "System,fps,load\nHalden 4,57\nHalden 5,62,3\n", refused="has 2 columns, not 3"
    ),
    "words.csv": Table("System,fps\nHalden 4,fast\nHalden 5,faster\n", refused="that hold numbers"),
    "one.column.csv": Table("57\n62\n", refused="--header"),
    "log.txt": Table(
        "start\nFPS: 57.2\nnoise\nFPS: 57.9\n", {"log/workload/FPS": [57.2, 57.9]},
        ("--pattern", "FPS: ([0-9.]+)", "--column", "configuration=FILE"),
    ),
}  # fmt: skip
