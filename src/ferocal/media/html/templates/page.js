"use strict";
// Sorts and filters overviews, opens what a link leads to, and everything that is printed.
const orders = {
  "study": (a, b) => a.place - b.place,
  "largest change": (a, b) => b.row.dataset.size - a.row.dataset.size || a.place - b.place,
  "name": (a, b) => a.row.dataset.name.localeCompare(b.row.dataset.name, "en"),
};
function field(tools, text, control) {
  const label = document.createElement("label");
  label.append(text, control);
  tools.append(label);
  return control;
}
function dress(overview) {
  const body = overview.querySelector("tbody");
  const all = [...body.rows];
  const rows = all.map((row, place) => ({ row, place })).filter(({ row }) => row.dataset.name);
  if (rows.length < 4) return;
  const tools = document.createElement("div");
  tools.className = "tools";
  const order = field(tools, "sort by ", document.createElement("select"));
  for (const name of Object.keys(orders)) order.add(new Option(name));
  const verdict = field(tools, "verdict ", document.createElement("select"));
  const known = new Set(rows.flatMap(({ row }) => row.dataset.verdicts.split("|").filter(Boolean)));
  for (const name of ["any", ...known]) verdict.add(new Option(name));
  const name = field(tools, "metric ", document.createElement("input"));
  name.type = "search";
  name.size = 14;
  function show() {
    const wanted = name.value.trim().toLowerCase();
    const plain = order.value === "study" && verdict.value === "any" && !wanted;
    overview.classList.toggle("sorted", !plain);
    for (const { row } of rows) {
      const fits = verdict.value === "any" || row.dataset.verdicts.split("|").includes(verdict.value);
      row.hidden = !(fits && row.dataset.name.toLowerCase().includes(wanted));
    }
    body.append(...(plain ? all : [...rows].sort(orders[order.value]).map(({ row }) => row)));
  }
  tools.addEventListener("input", show);
  overview.prepend(tools);
}
document.querySelectorAll("[data-sortable]").forEach(dress);
function open_target() {
  const target = document.getElementById(decodeURIComponent(location.hash.slice(1)));
  for (let at = target; at; at = at.parentElement) if (at.tagName === "DETAILS") at.open = true;
  if (target) target.scrollIntoView();
}
addEventListener("hashchange", open_target);
if (location.hash) open_target();
addEventListener("beforeprint", () => document.querySelectorAll("details").forEach((d) => { d.open = true; }));
