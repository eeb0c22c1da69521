"""Tables as people write them: right, asked, or refused with what would be right."""

from __future__ import annotations

import re
from pathlib import Path

import pexpect
import pytest

from conftest import PATIENCE, PROGRAM, Ferocal, surroundings
from zoo import ZOO, Table


def readings_of(study: Ferocal) -> dict[str, list[float]]:
    """What a study holds, in the order in which it was recorded."""
    found: dict[str, list[float]] = {}
    for run in reversed(study.json("runs")["run_list"]):
        for metric, value in run["values"].items():
            key = f"{run['configuration']}/{run['workload']}/{metric}"
            found.setdefault(key, []).append(value["value"])
    return found


def begin(ferocal: Ferocal, name: str, table: Table, *options: str) -> tuple[int, str, str]:
    content = table.content
    data = content if isinstance(content, bytes) else content.encode()
    # The workload of a table that names none is called like the file.
    file = f"t{Path(name).suffix}" if name.startswith("t.") else name
    (ferocal.directory / file).write_bytes(data)
    return ferocal.attempt("new", "s", "--from", file, *options)


@pytest.mark.parametrize("name", ZOO)
def test_a_table_is_read_right_or_asked_about_or_refused(ferocal: Ferocal, name: str) -> None:
    table = ZOO[name]
    study = Ferocal(ferocal.directory / "s")
    if table.asked or table.refused:
        status, _, error = begin(ferocal, name, table)
        assert (status, study.directory.exists()) == (2, False), error
        assert table.asked in error and table.refused in error, error
    if table.refused:
        return
    status, out, error = begin(ferocal, name, table, *table.options)
    assert status == 0, error
    assert all(told in out for told in table.told), out
    found = readings_of(study)
    assert {key: sorted(values) for key, values in found.items()} == {
        key: pytest.approx(sorted(values)) for key, values in table.right.items()
    }


def test_the_zoo_is_large() -> None:
    assert len(ZOO) >= 60 and sum(bool(t.asked) for t in ZOO.values()) >= 10
    assert all(re.fullmatch(r"[\w.]+", name) for name in ZOO) and Path(__file__).exists()


def test_a_preview_shows_what_is_what_and_records_nothing(ferocal: Ferocal) -> None:
    text = ZOO["t.mean.csv"].content
    assert isinstance(text, str)
    (ferocal.directory / "t.csv").write_text(f"Dome lab\n\n{text}")
    shown = ferocal.quick("new", "s", "--from", "t.csv", "--preview")
    for told in ("line 3", "Dome lab", "run 1 … run 3", "a run per column", "configuration",
                 "the mean of the 3 others", "the standard deviation of the 3 others"):  # fmt: skip
        assert told in shown, shown
    assert not (ferocal.directory / "s").exists()
    doubtful = ZOO["asked.csv"].content
    assert isinstance(doubtful, str)
    (ferocal.directory / "a.csv").write_text(doubtful)
    shown = ferocal.quick("new", "s", "--from", "a.csv", "--preview")
    assert "to settle it: --across configuration" in " ".join(shown.split())


def test_lines_beside_a_table_are_told_and_kept(ferocal: Ferocal) -> None:
    (ferocal.directory / "t.csv").write_text(
        "Dome lab\n\nSystem,fps\nHalden 4,57.2\nHalden 5,62.1\n\nMeasured by hand\n"
    )
    told = ferocal.quick("new", "s", "--from", "t.csv")
    assert 'beside the table: "Dome lab"' in told and '"Measured by hand"' in told
    (entry,) = Ferocal(ferocal.directory / "s").json("history")["history"]
    assert entry["imported_as"]["around"] == ["Dome lab", "Measured by hand"]


def test_what_is_doubtful_is_asked_once_in_a_terminal(ferocal: Ferocal) -> None:
    doubtful = ZOO["asked.csv"].content
    assert isinstance(doubtful, str)
    (ferocal.directory / "a.csv").write_text(doubtful)
    for answer, status in (("n", 2), ("y", 0)):
        terminal = pexpect.spawn(
            PROGRAM, ["new", "s", "--from", "a.csv"], cwd=str(ferocal.directory),
            env=surroundings(), encoding="utf-8", dimensions=(40, 120), timeout=PATIENCE,
        )  # fmt: skip
        terminal.expect("may be configurations or metrics")
        terminal.expect("Read it as shown")
        terminal.sendline(answer)
        terminal.expect(pexpect.EOF)
        terminal.close()
        assert terminal.exitstatus == status
    (entry,) = Ferocal(ferocal.directory / "s").json("history")["history"]
    assert entry["imported_as"]["doubts"] == [
        ['"A" and "B" may be configurations or metrics', "configurations"]
    ]


def test_files_and_sheets_can_be_configurations(ferocal: Ferocal) -> None:
    for name, rate in (("Halden 4", 57), ("Halden 5", 62)):
        (ferocal.directory / f"{name}.csv").write_text(f"Scene,fps\nflight,{rate}\n")
        (ferocal.directory / f"{name}.log").write_text(f"go\nFPS: {rate}.5\n")
    files = [f"--from=Halden {n}.csv" for n in (4, 5)]
    # Without a word on it, each scene would be a configuration.
    ferocal.quick("new", "s", *files, "--column", "configuration=FILE")
    assert readings_of(Ferocal(ferocal.directory / "s")) == {
        "Halden-4/flight/fps": [57.0], "Halden-5/flight/fps": [62.0],
    }  # fmt: skip
    logs = [f"--from=Halden {n}.log" for n in (4, 5)]
    ferocal.quick("new", "t", *logs, "--pattern", "FPS: ([0-9.]+)", "--column",
                  "configuration=FILE")  # fmt: skip
    assert readings_of(Ferocal(ferocal.directory / "t")) == {
        "Halden-4/workload/FPS": [57.5], "Halden-5/workload/FPS": [62.5],
    }  # fmt: skip


def test_one_configuration_is_a_beginning_and_the_next_is_added(ferocal: Ferocal) -> None:
    (ferocal.directory / "four.csv").write_text("System,Load time (s)\nHalden 4,3:25\n")
    told = ferocal.quick("new", "s", "--from", "four.csv")
    assert "nothing to compare yet" in told and "ferocal load FILE --add --study s" in told
    study = Ferocal(ferocal.directory / "s")
    text = study.directory / "study.toml"
    text.write_text(text.read_text().replace("[configuration]", "# which\n[configuration]"))
    before = text.read_bytes()
    (study.directory / "five.csv").write_text("System,Load time (s)\nHalden 5,3:05\n")
    assert "if it is new: --add" in study.refusal("load", "five.csv")
    (study.directory / "bad.csv").write_text("System,Load time (s)\nHalden 5,fast\n")
    study.refusal("load", "bad.csv", "--add")
    assert text.read_bytes() == before
    assert "would add" in study.quick("load", "five.csv", "--add", "--preview")
    assert text.read_bytes() == before
    study.quick("load", "five.csv", "--add")
    after = text.read_text()
    assert "# which\n[configuration]" in after and "level.Halden-5]" in after
    (effect,) = study.json("compare")["effects"]
    assert effect["change"] == pytest.approx(185 / 205 - 1)


def test_what_stands_beside_readings_is_used(ferocal: Ferocal) -> None:
    (ferocal.directory / "t.csv").write_text(
        "Host,Price (EUR/h),Cores,Version,Date,Ambient,Group,Scene,time (s),Note\n"
        "Oxbow S,0.20,4,5.1,05.03.2026,21.5,Dome,flight,211.5,\n"
        "Oxbow S,0.20,4,5.1,05.03.2026,21.5,Dome,export,80,fan loud\n"
        "Tarn 8,0.30,8,5.1,06.03.2026,22.5,Dome,flight,131,\n"
        "Tarn 8,0.30,8,5.1,06.03.2026,22.5,Dome,export,60*,\n\n* second disk\n"
    )
    ferocal.quick("new", "s", "--from", "t.csv")
    study = Ferocal(ferocal.directory / "s")
    text = (study.directory / "study.toml").read_text()
    assert 'quantities = { price = "0.2 EUR/h", cores = 4 }' in text and 'group = "Dome"' in text
    runs = study.json("runs")["run_list"]
    assert {run["started_at"][:10] for run in runs} == {"2026-03-05", "2026-03-06"}
    assert {run["conditions"]["before"]["ambient_celsius"] for run in runs} == {21.5, 22.5}
    notes = study.json("note")["notes"]
    assert {note["text"] for note in notes} == {"fan loud", "second disk"}
    codes = {c["code"] for e in study.json("compare")["effects"] for c in e["caveats"]}
    assert "unproven" not in codes and "workload-differs" not in codes
    other = (ferocal.directory / "t.csv").read_text().replace("8,5.1", "8,5.2")
    (ferocal.directory / "u.csv").write_text(other)
    ferocal.quick("new", "u", "--from", "u.csv")
    codes = {c["code"] for e in Ferocal(ferocal.directory / "u").json("compare")["effects"]
             for c in e["caveats"]}  # fmt: skip
    assert "workload-differs" in codes


RANGES = """Scene;Halden 4;Halden 5
kiosk;330..340 of 5;350..362 of 5
rate;70..80;84..90
settled;75 (70..80);82 (80..85)
usual;usually 38 000, best 39 100 of 5;usually 39 000, best 39 900 of 5
"""


def test_a_number_is_shown_as_it_was_given_and_its_change_between_its_bounds(
    ferocal: Ferocal,
) -> None:
    (ferocal.directory / "t.csv").write_text(RANGES)
    ferocal.quick("new", "s", "--from", "t.csv")
    study = Ferocal(ferocal.directory / "s")
    effects = {e["workload"]: e for e in study.json("compare")["effects"]}
    assert effects["kiosk"]["read"] == pytest.approx([350 / 340 - 1, 362 / 330 - 1])
    assert effects["rate"]["read"] == pytest.approx([84 / 80 - 1, 90 / 70 - 1])
    assert effects["settled"]["read"] is None and effects["usual"]["read"] is None
    assert effects["settled"]["change"] == pytest.approx(82 / 75 - 1)
    assert effects["usual"]["change"] == pytest.approx(39 / 38 - 1)
    shown = (study.quick("compare") + study.quick("runs")).replace("\u202f", " ")
    for told in ("+2.9..+9.7 %", "330..340 of 5", "75 (70..80)", "70..80", "usually 38 000, best"):
        assert told in shown, told
    assert "335" not in shown and "5.8" not in shown
    study.quick("export", "out.csv")
    again = Ferocal(ferocal.directory / "again")
    again.directory.mkdir()
    again.write((study.directory / "study.toml").read_text())
    again.quick("load", "../s/out.csv")
    same = again.json("compare")["effects"]
    assert [(e["change"], e["read"]) for e in same] == [
        (effects[e["workload"]]["change"], effects[e["workload"]]["read"]) for e in same
    ]


def test_numbered_runs_of_one_date_are_one_visit(ferocal: Ferocal) -> None:
    lines = [f"{arm},2026-03-0{day},{run},{50 + day + run / 10 + 5 * (arm == 'b')}"
             for day in (1, 2, 3) for arm in "ab" for run in (1, 2, 3)]  # fmt: skip
    (ferocal.directory / "t.csv").write_text("\n".join(["System,Date,Run,fps", *lines]))
    ferocal.quick("new", "s", "--from", "t.csv")
    (effect,) = Ferocal(ferocal.directory / "s").json("compare")["effects"]
    assert (effect["visits"], effect["base_visits"], effect["runs"]) == (3, 3, 18)
    assert "unknown-visits" not in {c["code"] for c in effect["caveats"]}
    bare = [line.replace(f",2026-03-0{day}", "") for line in lines for day in (1, 2, 3)
            if f"-0{day}" in line]  # fmt: skip
    unnamed = [",".join((line.split(",")[0], line.split(",")[2])) for line in bare]
    (ferocal.directory / "u.csv").write_text("\n".join(["System,fps", *unnamed]))
    ferocal.quick("new", "u", "--from", "u.csv")
    caveats = Ferocal(ferocal.directory / "u").quick("compare").partition("caveats")[2]
    assert caveats.strip().startswith("visits are unknown"), caveats


def test_names_that_screens_print_are_accepted_and_ratios_checked(ferocal: Ferocal) -> None:
    (ferocal.directory / "t.csv").write_text(
        "System,Single (points),All-core (points),MP ratio,1 % low (fps)\n"
        "Halden 4,1000,4590,4.59,31\nHalden 5,1000,460,4.59,28\nHalden 6,1010,4700,4.65,29\n"
    )
    told = ferocal.quick("new", "s", "--from", "t.csv")
    assert "MP-ratio with Halden-5 is 4.590, but All-core / Single is 0.4600" in told
    study = Ferocal(ferocal.directory / "s")
    for name in ("1 % low", "1-low", "t 1 % low", "T 1 % LOW", "mp ratio"):
        labels = {e["metric"] for e in study.json("compare", "--metric", name)["effects"]}
        assert labels == {"MP-ratio" if "ratio" in name else "1-low"}
    study.quick("enter", "T", "--configuration", "halden 4", "--metric", "1 % low", "30 (warm)")
    assert "warm" in study.quick("note")
    run = study.json("runs")["run_list"][-1]["id"]
    study.quick("correct", run, "1 % low", "29", "--reason", "misread")
    study.quick("reference", "add", "--device", "Larkspur 2", "--metric", "t 1 % low",
                "--value", "30..34", "--source", "leaflet")  # fmt: skip


@pytest.mark.parametrize("count", [10, 4000])
def test_a_large_table_of_a_program_is_read_like_a_small_one(ferocal: Ferocal, count: int) -> None:
    """From 64 KiB on, tables whose columns are named for what they are go another way."""
    rows = [f"r{n % 2},flight,fps,{50 + n % 7}.5,{n // 2 + 1}" for n in range(count)]
    lines = ["release,workload,metric,value,run", *rows]
    (ferocal.directory / "t.csv").write_text("\n".join(lines))
    assert ((ferocal.directory / "t.csv").stat().st_size > 2**16) == (count > 10)
    for place, options in (
        ("f", ("--factor", "release")),
        ("c", ("--column", "configuration=release")),
    ):
        ferocal.quick("new", place, "--from", "t.csv", *options)
        study = Ferocal(ferocal.directory / place)
        cells = {c["configuration"]: c["runs"] for c in study.json("table")["cells"]}
        assert cells == {"r0": count // 2, "r1": count // 2}
