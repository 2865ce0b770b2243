"use strict";
// Everything from candidates goes into the page as text, never as markup.
const $ = (id) => document.getElementById(id);
const make = (tag, text, name) => {
  const node = document.createElement(tag);
  if (text !== undefined) node.textContent = text;
  if (name) node.className = name;
  return node;
};

// Tables that are sorted by the head of a column.
for (const table of document.querySelectorAll(".sortable")) {
  table.querySelectorAll("th").forEach((head, column) => {
    const button = make("button", head.textContent);
    head.replaceChildren(button);
    button.addEventListener("click", () => {
      const up = head.getAttribute("aria-sort") !== "ascending";
      table.querySelectorAll("th").forEach((it) => it.removeAttribute("aria-sort"));
      head.setAttribute("aria-sort", up ? "ascending" : "descending");
      const key = (row) => {
        const cell = row.cells[column];
        if (cell.dataset.order === undefined) return cell.textContent;
        return cell.dataset.order === "" ? Infinity : Number(cell.dataset.order);
      };
      const order = (a, b) => (typeof a === "number" ? a - b : a.localeCompare(b));
      const rows = [...table.tBodies[0].rows];
      rows.sort((a, b) => order(key(a), key(b)) * (up ? 1 : -1));
      table.tBodies[0].append(...rows);
    });
  });
}

// Filters of the tasks.
const rows = [...document.querySelectorAll(".matrix tbody tr")];
const filter = () => {
  const text = $("find").value.trim().toLowerCase();
  const category = $("category").value;
  const which = $("which").value;
  let shown = 0;
  for (const row of rows) {
    const fits = (!text || row.cells[0].textContent.toLowerCase().includes(text))
      && (!category || row.dataset.category === category)
      && (!which || which in row.dataset);
    row.hidden = !fits;
    shown += fits ? 1 : 0;
  }
  $("count").textContent = `${shown} of ${rows.length} tasks`;
};
const form = document.querySelector(".filters");
form.hidden = false;
form.addEventListener("submit", (event) => event.preventDefault());
for (const id of ["find", "category", "which"]) $(id).addEventListener("input", filter);
filter();

// What stands behind a cell.
const candidates = [...document.querySelectorAll(".matrix .candidate")].map((it) => it.textContent);
const unpacked = new Map();
const details = async (task) => {
  if (!unpacked.has(task)) {
    const bytes = Uint8Array.from(atob($(`task-${task}`).textContent), (it) => it.charCodeAt(0));
    const stream = new Blob([bytes]).stream().pipeThrough(new DecompressionStream("gzip"));
    unpacked.set(task, JSON.parse(await new Response(stream).text()));
  }
  return unpacked.get(task);
};

const KEYWORDS = new Set(("abstract as assert async await bool boolean break case catch char class const continue"
  + " def default del do double elif else enum export extends final finally float fn for from func function if"
  + " impl implements import in instanceof int interface is lambda let long loop match mod mut new nil None not"
  + " null or and package pass private protected pub public raise range return self static str string struct"
  + " super switch this throw throws True False true false try type typeof use var void where while with yield")
  .split(" "));
const TOKENS = /(\/\/[^\n]*|#[^\n]*|\/\*[\s\S]*?\*\/)|("""[\s\S]*?"""|'''[\s\S]*?'''|"(?:\\.|[^"\\\n])*"|'(?:\\.|[^'\\\n])*'|`(?:\\.|[^`\\])*`)|(\b\d[\w.]*)|([A-Za-z_]\w*)|([^\w"'`/#]+|.)/gy;
const highlighted = (code) => {
  const pre = make("pre");
  if (code.length > 20000) { pre.textContent = code; return pre; }
  for (const [all, comment, text, number, word] of code.matchAll(TOKENS)) {
    const kind = comment ? "c" : text ? "s" : number ? "n" : word && KEYWORDS.has(word) ? "k" : "";
    pre.append(kind ? make("span", all, kind) : all);
  }
  return pre;
};
const difference = (patch) => {
  const pre = make("pre");
  for (const line of patch.split("\n")) {
    const kind = line.startsWith("@@") ? "at" : line.startsWith("+") ? "add" : line.startsWith("-") ? "del" : "";
    pre.append(kind ? make("span", line, kind) : line, "\n");
  }
  return pre;
};
const folded = (title, node, open) => {
  const fold = make("details");
  fold.open = Boolean(open);
  fold.append(make("summary", title), node);
  return fold;
};
const verdict = (text) => make("span", text, text.startsWith("pass") ? "pass" : text.startsWith("fail") ? "fail" : "");
const facts = (...parts) => {
  const line = make("p", undefined, "facts");
  parts.filter(Boolean).forEach((part, place) => line.append(place ? " · " : "", part));
  return line;
};

const tests = (all, texts) => {
  const table = make("table");
  for (const test of all) {
    const row = table.insertRow();
    row.insertCell().textContent = test.name;
    row.insertCell().append(verdict(test.failed ? `fail (${test.failed})` : "pass"));
    const said = row.insertCell();
    said.append([test.role, test.summary].filter(Boolean).join(": "));
    if (test.open) {
      const [input, expected, found] = test.open.map((it) => texts[it]);
      for (const [what, text] of [["input", input], ["expected", expected], ["found", found]]) {
        if (text) said.append(folded(what, make("pre", text)));
      }
    }
  }
  return table;
};

const attempt = (it, number, texts, last) => {
  const part = make("section");
  part.append(make("h4", `Attempt ${number}`));
  part.append(facts(verdict(it.verdict), `${it.tests_passed} of ${it.tests_total} tests`,
    it.deviations ? `not as asked: ${it.deviations.join(", ")}` : ""));
  for (const note of it.notes ?? []) part.append(facts(note));
  for (const again of it.again ?? []) part.append(facts(`judged again: ${again}`));
  if (it.answer !== undefined) part.append(folded("answer", make("pre", texts[it.answer])));
  for (const [path, text] of it.files ?? []) part.append(folded(path, highlighted(texts[text]), last));
  if (it.change !== undefined) part.append(folded("change", difference(texts[it.change]), last));
  if (it.steps) {
    const table = make("table");
    for (const step of it.steps) {
      const row = table.insertRow();
      for (const text of [step.kind, step.subject, step.outcome, `${step.seconds.toFixed(2)} s`]) {
        row.insertCell().textContent = text;
      }
    }
    part.append(folded(`${it.steps.length} steps`, table));
  }
  if (it.message !== undefined) part.append(folded("error", make("pre", texts[it.message]), last));
  if (it.tests.length) part.append(folded("tests", tests(it.tests, texts), last && !it.verdict.startsWith("pass")));
  if (it.feedback !== undefined) part.append(folded("feedback", make("pre", texts[it.feedback])));
  return part;
};

// A cell has an address of its own, to be sent to others.
const address = (task, candidate) =>
  `#${new URLSearchParams({ task: rows[task].cells[0].textContent, candidate: candidates[candidate] })}`;

const dialog = $("cell");
let open = null;
const show = async (task, candidate) => {
  open = [task, candidate];
  const name = candidates[candidate];
  history.replaceState(null, "", address(task, candidate));
  $("cell-title").textContent = `${rows[task].cells[0].textContent}, ${name}`;
  const body = $("cell-body");
  body.replaceChildren(make("p", "…"));
  if (!dialog.open) dialog.showModal();
  let detail;
  try {
    detail = await details(task);
  } catch (error) {
    body.replaceChildren(make("p", `This browser cannot unpack it: ${error}`));
    return;
  }
  const texts = detail.texts;
  const trials = detail.trials.filter((it) => it.candidate === name);
  const parts = [];
  const prompt = trials.find((it) => it.prompt !== undefined);
  if (prompt) parts.push(folded("prompt", make("pre", texts[prompt.prompt])));
  for (const trial of trials) {
    parts.push(make("h3", `Sample ${trial.sample}`));
    parts.push(facts(verdict(trial.verdict), `trial ${trial.trial}`, `${trial.seconds.toFixed(2)} s`,
      `${trial.tokens[0]} tokens in, ${trial.tokens[1]} out`, `cost ${trial.cost.toPrecision(4)}`));
    if (trial.helped) parts.push(facts(`a person helped: ${trial.helped}`));
    if (trial.prompt === undefined) parts.push(facts(`its texts are not in this page: fairtrial show RECORD --trial ${trial.trial}`));
    for (const text of trial.unanswered ?? []) parts.push(facts(`not answered: ${text}`));
    trial.attempts.forEach((it, place) =>
      parts.push(attempt(it, place + 1, texts, place === trial.attempts.length - 1)));
  }
  body.replaceChildren(...parts);
  dialog.scrollTop = 0;
};
const move = (by) => {
  const [task, from] = open;
  const cells = [...rows[task].querySelectorAll("button")].map((it) => Number(it.dataset.at.split(" ")[1]));
  const next = cells[cells.indexOf(from) + by];
  if (next !== undefined) show(task, next);
};
document.querySelector(".matrix").addEventListener("click", (event) => {
  const button = event.target.closest("button");
  if (button) show(...button.dataset.at.split(" ").map(Number));
});
// Arrows move between the cells.
document.querySelector(".matrix").addEventListener("keydown", (event) => {
  const button = event.target.closest("button");
  const steps = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0] }[event.key];
  if (!button || !steps) return;
  const visible = rows.filter((it) => !it.hidden);
  let row = visible.indexOf(button.closest("tr"));
  let column = button.closest("td").cellIndex;
  let to = null;
  do {
    row += steps[0];
    column += steps[1];
    const cell = visible[row]?.cells[column];
    if (!cell || column < 2) return;
    to = cell.querySelector("button");
  } while (!to);
  event.preventDefault();
  to.focus();
});
$("close").addEventListener("click", () => dialog.close());
$("before").addEventListener("click", () => move(-1));
$("next").addEventListener("click", () => move(1));
dialog.addEventListener("click", (event) => { if (event.target === dialog) dialog.close(); });
dialog.addEventListener("keydown", (event) => {
  if (event.key === "ArrowLeft") move(-1);
  if (event.key === "ArrowRight") move(1);
});
dialog.addEventListener("close", () => {
  const [task, candidate] = open;
  history.replaceState(null, "", "#matrix");
  rows[task].querySelector(`button[data-at="${task} ${candidate}"]`)?.focus();
});
const follow = () => {
  const wanted = new URLSearchParams(location.hash.slice(1));
  const task = rows.findIndex((it) => it.cells[0].textContent === wanted.get("task"));
  const candidate = candidates.indexOf(wanted.get("candidate"));
  if (task >= 0 && candidate >= 0) show(task, candidate);
};
window.addEventListener("hashchange", follow);
follow();
