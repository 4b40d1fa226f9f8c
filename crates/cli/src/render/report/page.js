// Sorts and filters tables, and follows the graph. Without it, everything is there to be read.
"use strict";

function element(name, attributes, text) {
  const made = document.createElement(name);
  for (const [key, value] of Object.entries(attributes)) made.setAttribute(key, value);
  if (text) made.textContent = text;
  return made;
}

function labelled(text, control) {
  const label = element("label", {}, text + " ");
  label.append(control);
  return label;
}

// Tables: sorted by a column, narrowed to rows with a text or a flag.

const order = new Intl.Collator("en", { numeric: true, sensitivity: "base" });

function sortKey(row, column) {
  const cell = row.cells[column];
  return cell.dataset.sort === undefined ? cell.textContent.trim() : Number(cell.dataset.sort);
}

function sortBy(table, head, column) {
  const isDown = head.getAttribute("aria-sort") === "ascending";
  for (const other of table.tHead.rows[0].cells) other.hasAttribute("aria-sort") && other.setAttribute("aria-sort", "none");
  head.setAttribute("aria-sort", isDown ? "descending" : "ascending");
  const body = table.tBodies[0];
  const keyed = [...body.rows].map((row) => [sortKey(row, column), row]);
  keyed.sort(([a], [b]) => (typeof a === "number" ? a - b : order.compare(a, b)) * (isDown ? -1 : 1));
  body.append(...keyed.map(([, row]) => row));
}

function makeSortable(table) {
  [...table.tHead.rows[0].cells].forEach((head, column) => {
    const button = element("button", { type: "button" }, head.textContent);
    head.replaceChildren(button);
    head.setAttribute("aria-sort", "none");
    button.addEventListener("click", () => sortBy(table, head, column));
  });
}

function makeFilterable(table, one, flags) {
  const what = one + "s";
  const rows = [...table.tBodies[0].rows];
  const tools = element("div", { class: "tools" });
  const field = element("input", { type: "search", autocomplete: "off", spellcheck: "false" });
  const choice = element("select", {});
  const shown = element("span", { role: "status", class: "note" });
  let texts = null;
  const show = (number) => {
    const all = `${rows.length} ${rows.length === 1 ? one : what}`;
    shown.textContent = number === rows.length ? all : `${number} of ${all}`;
  };
  const narrow = () => {
    texts ||= rows.map((row) => row.textContent.toLowerCase());
    const words = field.value.toLowerCase().split(/\s+/).filter(Boolean);
    let number = 0;
    rows.forEach((row, at) => {
      const hasFlag = !choice.value || (row.dataset.flags || "").split(" ").includes(choice.value);
      row.hidden = !hasFlag || !words.every((word) => texts[at].includes(word));
      number += row.hidden ? 0 : 1;
    });
    show(number);
  };
  field.addEventListener("input", narrow);
  choice.addEventListener("change", narrow);
  tools.append(labelled("Filter " + what, field));
  if (flags.length > 0) {
    for (const [value, text] of [["", "all"], ...flags]) choice.append(element("option", { value }, text));
    tools.append(labelled("Show", choice));
  }
  tools.append(shown);
  table.parentElement.before(tools);
  show(rows.length);
}

for (const table of document.querySelectorAll("table.sortable")) makeSortable(table);

const filters = {
  "problem-table": ["problem", [["error", "errors"], ["warning", "warnings"], ["note", "notes"]]],
  "change-table": ["change", []],
  "package-table": ["package", [["direct", "direct dependencies"], ["outdated", "outdated"], ["misfit", "not fitting"], ["problem", "with problems"]]],
  "project-table": ["project", []],
  "fit-table": ["package", []],
};
for (const [id, [one, flags]] of Object.entries(filters)) {
  const table = document.getElementById(id);
  if (table) makeFilterable(table, one, flags);
}

// A row that a link leads to is shown, whatever the filter says.
function showTarget() {
  const target = document.getElementById(decodeURIComponent(location.hash.slice(1)));
  if (!target) return;
  target.hidden = false;
  for (let outer = target.closest("details"); outer; outer = outer.parentElement.closest("details")) outer.open = true;
  target.scrollIntoView({ block: "center" });
}
addEventListener("hashchange", showTarget);

// What is folded is printed, too.
addEventListener("beforeprint", () => document.querySelectorAll("section > details").forEach((one) => { one.open = true; }));

// The graph: searched, zoomed, and followed with the arrow keys. Its boxes and lines are read when somebody first looks for one.

const picture = document.querySelector(".picture");
const drawing = picture.querySelector("svg");
const about = element("p", { role: "status", class: "note keys" });
let graph = null;
let current = null;
let scale = 1;

function readGraph() {
  if (graph) return graph;
  const byNumber = new Map();
  for (const link of drawing.querySelectorAll("a[data-n]")) {
    const box = link.querySelector("rect");
    const [x, y] = [Number(box.getAttribute("x")), Number(box.getAttribute("y"))];
    const text = link.querySelector("text").textContent;
    byNumber.set(link.dataset.n, { link, text, x, y, needs: [], needed: [], lines: [] });
  }
  for (const line of drawing.querySelectorAll("path[data-e]")) {
    const [needing, needed] = line.dataset.e.split(" ").map((number) => byNumber.get(number));
    needing.needs.push(needed);
    needed.needed.push(needing);
    needing.lines.push(line);
    needed.lines.push(line);
  }
  const nodes = [...byNumber.values()];
  for (const node of nodes) {
    node.needs.sort((a, b) => a.y - b.y);
    node.needed.sort((a, b) => a.y - b.y);
  }
  graph = { nodes, byNumber };
  return graph;
}

// The box that an event is about.
function nodeOf(event) {
  const link = event.target.closest("a[data-n]");
  return link && readGraph().byNumber.get(link.dataset.n);
}

function named(some) {
  const names = some.slice(0, 5).map((node) => node.text).join(", ");
  return some.length > 5 ? `${names} and ${some.length - 5} more` : names;
}

function follow(node) {
  if (!node || current === node) return;
  leave();
  current = node;
  picture.classList.add("following");
  node.link.classList.add("at");
  for (const near of [...node.needs, ...node.needed]) near.link.classList.add("near");
  for (const line of node.lines) line.classList.add("near");
  const needs = node.needs.length ? `needs ${named(node.needs)}` : "needs nothing";
  const needed = node.needed.length ? `; needed by ${named(node.needed)}` : "";
  about.textContent = `${node.text} ${needs}${needed}`;
}

function leave() {
  for (const lit of drawing.querySelectorAll(".at, .near")) lit.classList.remove("at", "near");
  picture.classList.remove("following");
  current = null;
}

function bringInto(node) {
  picture.scrollTo({ left: node.x * scale - picture.clientWidth / 3, top: node.y * scale - picture.clientHeight / 2 });
}

// One box can be reached with Tab; the arrow keys lead to the others.
function moveTo(from, node) {
  if (!node) return;
  from.link.tabIndex = -1;
  node.link.tabIndex = 0;
  bringInto(node);
  node.link.focus({ preventScroll: true });
}

function inColumn(node, step) {
  const column = readGraph().nodes.filter((other) => other.x === node.x).sort((a, b) => a.y - b.y);
  return column[column.indexOf(node) + step];
}

const ways = {
  ArrowRight: (node) => node.needs[0],
  ArrowLeft: (node) => node.needed[0],
  ArrowDown: (node) => inColumn(node, 1),
  ArrowUp: (node) => inColumn(node, -1),
};

function useKeys() {
  drawing.querySelectorAll("a[data-n]").forEach((link, at) => { if (at > 0) link.tabIndex = -1; });
  drawing.addEventListener("keydown", (event) => {
    if (event.key === "Escape") leave();
    const [node, way] = [nodeOf(event), ways[event.key]];
    if (!node || !way || event.ctrlKey || event.altKey || event.metaKey) return;
    event.preventDefault();
    moveTo(node, way(node));
  });
  drawing.addEventListener("focusin", (event) => follow(nodeOf(event)));
  drawing.addEventListener("pointerover", (event) => follow(nodeOf(event)));
}

function zoom(to) {
  const { width, height } = drawing.viewBox.baseVal;
  const [x, y] = [picture.scrollLeft + picture.clientWidth / 2, picture.scrollTop + picture.clientHeight / 2];
  const grown = Math.min(4, Math.max(0.02, to)) / scale;
  scale *= grown;
  drawing.style.width = width * scale + "px";
  drawing.style.height = height * scale + "px";
  picture.scrollTo(x * grown - picture.clientWidth / 2, y * grown - picture.clientHeight / 2);
}

function showAll() {
  const { width, height } = drawing.viewBox.baseVal;
  zoom(Math.min(1, picture.clientWidth / width, picture.clientHeight / height));
}

function addSearch(tools) {
  const field = element("input", { type: "search", autocomplete: "off", spellcheck: "false" });
  const hits = element("span", { role: "status", class: "note" });
  let found = [];
  let at = -1;
  field.addEventListener("input", () => {
    const word = field.value.trim().toLowerCase();
    for (const node of found) node.link.classList.remove("found");
    found = word ? readGraph().nodes.filter((node) => node.text.toLowerCase().includes(word)) : [];
    for (const node of found) node.link.classList.add("found");
    hits.textContent = word ? `${found.length} found` : "";
    at = -1;
    if (found[0]) bringInto(found[0]);
  });
  field.addEventListener("keydown", (event) => {
    if (event.key !== "Enter" || found.length === 0) return;
    at = at < 0 ? 0 : (at + (event.shiftKey ? found.length - 1 : 1)) % found.length;
    hits.textContent = `${at + 1} of ${found.length} found`;
    follow(found[at]);
    bringInto(found[at]);
  });
  tools.append(labelled("Find in the graph", field), hits);
}

function addGraphTools() {
  const tools = element("div", { class: "tools" });
  addSearch(tools);
  const buttons = [
    ["Zoom in", () => zoom(scale * 1.25)],
    ["Zoom out", () => zoom(scale / 1.25)],
    ["Original size", () => zoom(1)],
    ["Show all", showAll],
  ];
  for (const [text, act] of buttons) {
    const button = element("button", { type: "button" }, text);
    button.addEventListener("click", act);
    tools.append(button);
  }
  picture.before(tools);
  picture.after(about);
  about.textContent = "The arrow keys follow needs from box to box; Enter leads to the package's row.";
  picture.addEventListener("wheel", (event) => {
    if (!event.ctrlKey) return;
    event.preventDefault();
    zoom(scale * (event.deltaY < 0 ? 1.1 : 1 / 1.1));
  }, { passive: false });
}

addGraphTools();
useKeys();
showTarget();
