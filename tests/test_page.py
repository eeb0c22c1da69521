"""The page: where its links lead, what stands first, who can read it, and on what paper."""

from __future__ import annotations

import html
import json
import os
import re
import shutil
import subprocess
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import axe_core_python  # type: ignore[import-untyped]
import pytest

from conftest import PATIENCE, Ferocal
from ferocal.documents.report import PARTS

BROWSER = shutil.which("chromium")
STUDIES = (".", "firmware", "hosts", "kiosk")
# Opens everything that is folded, and writes what the checker finds into the page.
CHECK = """
document.querySelectorAll("details").forEach((d) => { d.open = true; });
axe.run(document, { resultTypes: ["violations"] }).then((found) => {
  const made = document.createElement("pre");
  made.id = "found";
  made.textContent = JSON.stringify(found.violations.map((v) => [v.id, v.nodes[0].html]));
  document.body.append(made);
});
"""


class Links(HTMLParser):
    """The ids of a page, where its links lead, and what it would fetch."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.ids: list[str] = []
        self.targets: list[str] = []
        self.fetched: list[str] = []
        self.cells: list[tuple[str, bool]] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: Any) -> None:
        known = dict(attrs)
        self.ids += [known["id"]] if "id" in known else []
        link = known.get("href") or known.get("xlink:href") or ""
        self.targets += [link[1:]] if link.startswith("#") else []
        away = (known.get("src"), None if link.startswith("#") else link)
        self.fetched += [place for place in away if place]


def page_of(directory: Path, *options: str, name: str = "page.html") -> str:
    target = directory / name
    Ferocal(directory).quick("report", "-o", str(target), *options)
    text = target.read_text(encoding="utf-8")
    target.unlink()
    return text


@pytest.fixture(scope="module")
def pages(demo: tuple[Ferocal, str]) -> dict[str, str]:
    return {name: page_of(demo[0].directory / name) for name in STUDIES}


def test_every_link_leads_somewhere_and_nothing_is_fetched(pages: dict[str, str]) -> None:
    for name, text in pages.items():
        links = Links(text)
        assert len(links.ids) == len(set(links.ids)), name
        assert set(links.targets) <= set(links.ids), name
        assert links.fetched == [], name
        assert "url(http" not in text and "@import" not in text
        assert len(text.encode()) < 2_000_000


def test_every_number_leads_to_its_runs_and_every_verdict_to_its_method(
    demo: tuple[Ferocal, str], pages: dict[str, str]
) -> None:
    known = demo[0].json("compare")
    text = pages["."]
    grid = text[text.index('<table class="grid') : text.index("</table>")]
    numbers = set(re.findall(r'href="#(runs:[^"]+)"', grid))
    shown = [e for e in known["effects"] if e["role"] in ("primary", "secondary")]
    for effect in shown:
        place = (effect["bench"], effect["workload"], effect["metric"], effect["configuration"])
        assert f"runs:{':'.join(place)}" in numbers, place
    methods = re.findall(r'href="#(method:[^"]+)"', grid)
    assert set(methods) == {f"method:{e['method'].replace(' ', '-')}" for e in shown}
    assert len(methods) >= len(shown)
    # From there to every run of the metric, each with its row in a table.
    runs = {run["id"] for run in demo[0].json("runs")["run_list"]}
    ids = set(Links(text).ids)
    assert {f"run:{run}" for run in runs} <= ids
    begin = text.index('id="runs:dome-node:dome-flight:frame-time/rate"')
    drawn = set(re.findall(r'href="#run:(\w+)"', text[begin : text.index("</details>", begin)]))
    flights = {r["id"] for r in demo[0].json("runs")["run_list"] if r["workload"] == "dome-flight"}
    assert drawn == flights
    # Phrases of the answer are links too.
    answer = text[text.index('<div class="answer">') : text.index("</div>")]
    assert '">frame rate +' in answer.replace("\u00a0", " ")


def test_a_page_leads_with_what_the_study_asks(pages: dict[str, str], tmp_path: Path) -> None:
    def first(text: str) -> str:
        main = text[text.index('<main id="main">') :]
        return main[: main.index("<nav")]

    # Claims stand above all, then: a series with its chart, a ranking, a comparison.
    assert first(pages["firmware"]).index("refuted") < first(pages["firmware"]).index("better:")
    assert "→ fw-1.06" in first(pages["kiosk"]) and "<svg" in first(pages["kiosk"])
    assert "leads in all metrics together" in first(pages["hosts"])
    assert "chance of being first" in first(pages["hosts"])
    assert 'class="grid' in first(pages["."]) and "<svg" not in first(pages["."])
    for text in pages.values():
        head = first(text)
        assert head.index('class="answer"') < head.index(">caveats<")
        assert head.count("<li>") <= 3
    # The gravest caveats have marks, and so have the cells that they are about.
    marks = re.findall(r'<sup class="mark">(\w)</sup>', first(pages["."]))
    assert marks and set(marks) <= {"a", "b"} and marks.count(marks[0]) > 1


def test_the_study_file_says_what_leads(demo: tuple[Ferocal, str], tmp_path: Path) -> None:
    for file in ("study.toml", "ledger.sqlite"):
        shutil.copy(demo[0].directory / file, tmp_path / file)
    text = (tmp_path / "study.toml").read_text()
    (tmp_path / "study.toml").write_text(f'{text}\n[report]\nlead = "ranking"\n')
    page = page_of(tmp_path, "--without", "readings")
    assert "share first place" in page[: page.index("<nav")]
    (tmp_path / "study.toml").write_text(f'{text}\n[report]\nlead = "rankings"\n')
    assert "report.lead" in Ferocal(tmp_path).refusal("report", "-o", "x.html")


def test_sections_are_chosen_and_names_replaced(demo: tuple[Ferocal, str], tmp_path: Path) -> None:
    directory = demo[0].directory / "firmware"
    options = ("--only", "claims", "--only", "procedure", "--title", "Update <1>")
    text = page_of(directory, *options, "--author", "A. Ray", "--rename", "dome-node=node-a")
    sections = re.findall(r'<section id="([^"]+)">', text)
    assert sections == ["claims", "procedure"]
    assert "<h1>Update &lt;1&gt;</h1>" in text and "A. Ray" in text
    assert "dome-node" not in text and "bench node-a" in text
    whole = page_of(directory, "--without", "effects", "--rename", "dome-node=node-a")
    assert "dome-node" not in whole and 'id="effects"' not in whole
    assert 'id="runs:node-a:show-export:duration"' in whole
    known = [part.key for part in PARTS]
    found = re.findall(r'<section id="([^"]+)">', whole)
    assert found == [key for key in known if key in found]
    # What leads keeps its overview where only it is wanted.
    ranking = page_of(demo[0].directory / "hosts", "--only", "ranking")
    assert "<h2>Ranking</h2>" in ranking and ">index</th>" in ranking
    ferocal = Ferocal(directory)
    assert 'did you mean "claims"' in ferocal.refusal("report", "--only", "claim")
    assert "OLD=NEW" in ferocal.refusal("report", "--rename", "host")


def test_the_same_study_gives_the_same_bytes(demo: tuple[Ferocal, str]) -> None:
    directory = demo[0].directory / "firmware"
    assert page_of(directory) == page_of(directory)


def test_markdown_has_its_charts_beside_it(demo: tuple[Ferocal, str], tmp_path: Path) -> None:
    said = demo[0].quick("report", "-o", str(tmp_path / "r.md"))
    text = (tmp_path / "r.md").read_text()
    pictures = re.findall(r"!\[[^\]]+\]\(([^)]+)\)", text)
    assert len(pictures) >= 3 and len(said.splitlines()) == 1 + len(pictures)
    for picture in pictures:
        assert (tmp_path / picture).read_text().startswith("<?xml")
    assert "## Readings" not in text and "## Soaks" in text


def test_a_page_on_paper_has_every_section(demo: tuple[Ferocal, str], tmp_path: Path) -> None:
    ferocal = Ferocal(demo[0].directory / "firmware")
    target = tmp_path / "report.pdf"
    try:
        import weasyprint  # type: ignore[import-untyped]
    except OSError:  # a machine without Pango, of which the message has to tell
        status, _, said = ferocal.attempt("report", "-o", str(target))
        assert status == 1 and "libpango" in said and not target.exists()
        return
    ferocal.quick("report", "-o", str(target))
    ferocal.quick("report", "-o", str(target))  # it is known as our own
    pdf = target.read_bytes()
    assert pdf.startswith(b"%PDF")
    from ferocal.answers.report import make_report
    from ferocal.documents.report import report_document
    from ferocal.media.html import page
    from ferocal.study.load import load_study

    report = make_report(load_study(ferocal.directory))
    made = weasyprint.HTML(string=page(report_document(report), on_paper=True)).render()
    assert 3 <= len(made.pages) <= 30
    for sheet in made.pages:
        assert (round(sheet.width), round(sheet.height)) == (794, 1123)  # A4 in CSS pixels
    # No row is cut by the edge of the paper: everything lies within the page.
    edge = made.pages[0].width
    for sheet in made.pages:
        for box in sheet._page_box.descendants():
            if type(box).__name__ == "TextBox" and box.text.strip():
                assert box.position_x + box.width <= edge + 1, box.text


# Sorts and filters the first overview, and follows a link, as a reader would.
USE = """
const [order, verdict] = document.querySelectorAll(".tools select");
const name = document.querySelector(".tools input");
const shown = () => [...document.querySelector(".overview tbody").rows]
  .filter((row) => getComputedStyle(row).display !== "none").map((row) => row.dataset.name || "");
const found = [shown()];
for (const [control, value] of [[order, "largest change"], [verdict, "worse"], [verdict, "any"],
                                [name, "SOAK"], [name, ""], [order, "study"]]) {
  control.value = value;
  control.dispatchEvent(new Event("input", { bubbles: true }));
  found.push(shown());
}
location.hash = "#runs:dome-node:show-export:duration";
setTimeout(() => {
  found.push(document.getElementById(location.hash.slice(1)).open);
  const made = document.createElement("pre");
  made.id = "found";
  made.textContent = JSON.stringify(found);
  document.body.append(made);
}, 500);
"""


def browse(text: str, scripts: str, folder: Path, *, dark: bool = False) -> Any:
    """What scripts find in a page in a browser without network, whose console stays empty."""
    page = folder / "browsed.html"
    page.write_text(text.replace("</body>", f"{scripts}</body>"))
    ground = ["--blink-settings=preferredColorScheme=0"] if dark else []
    done = subprocess.run(
        [
            str(BROWSER), "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run",
            "--disable-background-networking", "--host-resolver-rules=MAP * ~NOTFOUND",
            f"--user-data-dir={folder / 'profile'}", "--enable-logging=stderr", "--v=0",
            "--virtual-time-budget=100000", *ground, "--dump-dom", page.as_uri(),
        ],
        capture_output=True, text=True, timeout=PATIENCE, check=True,
        env={**os.environ, "HOME": str(folder)},
    )  # fmt: skip
    found = re.search(r'<pre id="found">(.*?)</pre>', done.stdout, re.DOTALL)
    assert found is not None, done.stderr[-500:]
    assert [line for line in done.stderr.splitlines() if "CONSOLE" in line] == []
    return json.loads(html.unescape(found[1]))


@pytest.mark.skipif(BROWSER is None, reason="needs Chromium")
def test_overviews_are_sorted_and_filtered_and_links_open_what_is_folded(
    pages: dict[str, str], tmp_path: Path
) -> None:
    found = browse(pages["."], f"<script>{USE}</script>", tmp_path)
    study, largest, worse, every, soak, _, again, opened = found
    assert again == study and "" in study  # with the names of workloads as headings
    assert sorted(largest) == sorted(filter(None, study)) and largest != list(filter(None, study))
    assert every == largest and set(worse) < set(largest)
    assert "dome-flight stutters" in worse and largest[0] == "dome-flight stutters"
    assert soak and all("soak" in name for name in soak)
    assert opened is True


@pytest.mark.skipif(BROWSER is None, reason="needs Chromium")
@pytest.mark.parametrize(
    ("name", "dark"), [*((name, False) for name in (*STUDIES, "once")), (".", True)]
)
def test_no_reader_is_kept_out(
    pages: dict[str, str], ferocal: Ferocal, tmp_path: Path, name: str, dark: bool
) -> None:
    """An accessibility checker and the console of a browser without network find nothing."""
    if name == "once":
        rows = "workload,configuration,value,unit\npage,a,10,s\npage,b,12,s\nidle,a,1,s\n"
        (ferocal.directory / "once.csv").write_text(rows)
        ferocal.quick("new", "s", "--from", "once.csv")
        text = page_of(ferocal.directory / "s")
    else:
        text = pages[name]
    axe = (Path(axe_core_python.__file__).parent / "axe.min.js").read_text()
    scripts = f"<script>{axe}</script><script>{CHECK}</script>"
    assert browse(text, scripts, tmp_path, dark=dark) == []
