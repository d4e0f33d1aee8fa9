// Labeling by eye: a grid of pictures of which only what is seen is drawn, classes chosen by key or mouse, every step undone.
import { h, render } from "preact";
import htm from "htm";

const html = htm.bind(h);
const { id, classes, items } = JSON.parse(document.getElementById("records").textContent);
const CELL = { width: 128, height: 146 };
const isPaired = items.some((item) => item.group !== undefined);
const originals = items.map((item) => item.label);
const labels = [...originals];
const looked = new Set();
const filter = { text: "", label: "", only: "all" };
const done = [], undone = [];
let shown = items.map((_, index) => index);
let cursor = 0, anchor = 0, selected = new Set();
let columns = 1, top = 0, height = 600, chooser = null, message = "";

const app = document.getElementById("app");
const said = (index) => labels[index] ?? "no label";
const isChanged = (index) => labels[index] !== originals[index];
const changed = () => items.map((_, index) => index).filter(isChanged);
const known = () => [...new Set([...classes, ...labels.filter(Boolean)])];

function keep() {
  const told = { labels: Object.fromEntries(changed().map((i) => [items[i].key, labels[i]])), looked: [...looked].map((i) => items[i].key) };
  try { localStorage.setItem(id, JSON.stringify(told)); } catch { message = "this browser keeps nothing: save the table before you leave"; }
}

function takeUp(told) {
  const at = new Map(items.map((item, index) => [item.key, index]));
  for (const [key, label] of Object.entries(told.labels ?? {})) if (at.has(key)) labels[at.get(key)] = label;
  for (const key of told.looked ?? []) if (at.has(key)) looked.add(at.get(key));
}

function choose() {
  const text = filter.text.toLowerCase();
  shown = items.map((_, index) => index).filter((index) =>
    (!text || items[index].key.toLowerCase().includes(text)) && (!filter.label || said(index) === filter.label) &&
    (filter.only === "all" || (filter.only === "changed" ? isChanged(index) : filter.only === "left" ? !looked.has(index) : items[index].hint && items[index].hint !== labels[index])));
  cursor = Math.min(cursor, Math.max(0, shown.length - 1));
  anchor = cursor;
  selected = new Set();
}

function assign(label) {
  const places = targets();
  if (!places.length) return;
  const step = places.map((place) => [shown[place], labels[shown[place]], label]);
  done.push(step);
  undone.length = 0;
  for (const [index, , after] of step) { labels[index] = after; looked.add(index); }
  message = `${step.length === 1 ? items[step[0][0]].key : `${step.length} pictures`}: ${label}`;
  goOn(places);
}

const targets = () => (selected.size ? [...selected].sort((a, b) => a - b) : shown.length ? [cursor] : []);

function goOn(places) {
  selected = new Set();
  cursor = anchor = Math.min(Math.max(...places) + 1, shown.length - 1);
  keep();
  intoView();
}

function back(from, to, which) {
  const step = from.pop();
  if (!step) return;
  for (const [index, before, after] of step) labels[index] = which === "before" ? before : after;
  to.push(step);
  message = `${which === "before" ? "undone" : "done again"}: ${step.length} ${step.length === 1 ? "picture" : "pictures"}`;
  const place = shown.indexOf(step[0][0]);
  if (place >= 0) { cursor = anchor = place; selected = new Set(); }
  keep();
  intoView();
}

function lookedAt() {
  const places = targets();
  for (const place of places) looked.add(shown[place]);
  if (places.length) goOn(places);
}

function move(by, isExtending) {
  cursor = Math.min(Math.max(cursor + by, 0), shown.length - 1);
  if (isExtending) selectRange();
  else { anchor = cursor; selected = new Set(); }
  intoView();
}

function selectRange() {
  selected = new Set();
  for (let place = Math.min(anchor, cursor); place <= Math.max(anchor, cursor); place += 1) selected.add(place);
}

function clicked(place, event) {
  if (event.shiftKey) { cursor = place; selectRange(); }
  else if (event.ctrlKey || event.metaKey) {
    if (!selected.size) selected.add(cursor);
    selected.has(place) ? selected.delete(place) : selected.add(place);
    cursor = anchor = place;
  } else { cursor = anchor = place; selected = new Set(); }
  draw();
}

function intoView() {
  const grid = document.getElementById("grid"), y = Math.floor(cursor / columns) * CELL.height;
  if (grid && y < grid.scrollTop) grid.scrollTop = y;
  if (grid && y + CELL.height > grid.scrollTop + height) grid.scrollTop = y + CELL.height - height;
  if (grid) top = grid.scrollTop;
}

function pressed(event) {
  const moves = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: columns, ArrowUp: -columns, PageDown: columns * 4, PageUp: -columns * 4, Home: -items.length, End: items.length };
  const isCommand = event.ctrlKey || event.metaKey, key = event.key;
  if (key in moves) move(moves[key], event.shiftKey);
  else if (isCommand && key.toLowerCase() === "z") event.shiftKey ? back(undone, done, "after") : back(done, undone, "before");
  else if (isCommand && key.toLowerCase() === "y") back(undone, done, "after");
  else if (isCommand && key.toLowerCase() === "a") selected = new Set(shown.keys());
  else if (isCommand || event.altKey) return;
  else if (key === "Enter") lookedAt();
  else if (key === "Escape") selected = new Set();
  else if (/^[1-9]$/.test(key) && classes[key - 1] !== undefined) assign(classes[key - 1]);
  else if (/^\S$/u.test(key)) chooser = key;
  else return;
  event.preventDefault();
  draw();
}

function picked(event) {
  const input = event.target;
  if (event.key === "Escape") { chooser = null; focusGrid(); }
  else if (event.key === "Enter") {
    const text = input.value.trim(), first = matching(text)[0] ?? text;
    chooser = null;
    if (first) assign(first);
    focusGrid();
  } else return;
  event.preventDefault();
  draw();
}

function left() {
  if (chooser !== null) { chooser = null; setTimeout(draw); }
}

const matching = (text) => known().filter((name) => name.toLowerCase().startsWith(text.toLowerCase())).concat(
  known().filter((name) => !name.toLowerCase().startsWith(text.toLowerCase()) && name.toLowerCase().includes(text.toLowerCase())));
const focusGrid = () => setTimeout(() => document.getElementById("grid")?.focus({ preventScroll: true }));

// what a spreadsheet would run as a formula is written behind an apostrophe, which reading the table takes away
const formula = /^'*(?:[=@\t\r]|[+-](?!\d*\.?\d+(?:[eE][+-]?\d+)?$))/;
const plain = (text) => (formula.test(text) ? `'${text}` : text);
const quoted = (text) => (/[",\r\n]|^\s|\s$/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);
const cell = (text) => quoted(plain(text));
const table = () => ["key,label", ...changed().map((index) => `${cell(items[index].key)},${cell(labels[index])}`)].join("\n") + "\n";

function save() {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([table()], { type: "text/csv" }));
  link.download = "labels.csv";
  link.click();
  URL.revokeObjectURL(link.href);
  message = `saved ${changed().length} rows as labels.csv`;
  draw();
}

function rowsOf(text) {
  const rows = [[""]];
  let isQuoted = false;
  for (let at = 0; at < text.length; at += 1) {
    const letter = text[at], row = rows[rows.length - 1];
    if (isQuoted && letter === '"' && text[at + 1] === '"') { row[row.length - 1] += '"'; at += 1; }
    else if (letter === '"') isQuoted = !isQuoted;
    else if (!isQuoted && letter === ",") row.push("");
    else if (!isQuoted && letter === "\n") rows.push([""]);
    else if (letter !== "\r") row[row.length - 1] += letter;
  }
  return rows.filter((row) => row.length > 1);
}

async function load(event) {
  const [header, ...rows] = rowsOf(await event.target.files[0].text());
  const key = header.indexOf("key"), label = header.indexOf("label");
  if (key < 0 || label < 0) message = "that table has no columns key and label";
  else {
    takeUp({ labels: Object.fromEntries(rows.map((row) => [row[key], row[label]])), looked: rows.map((row) => row[key]) });
    message = `went on from ${rows.length} rows`;
    keep();
  }
  event.target.value = "";
  draw();
}

function filtered(name, value) { filter[name] = value; choose(); draw(); }

function Picture(place) {
  const index = shown[place], item = items[index];
  const isSelected = selected.size ? selected.has(place) : place === cursor;
  const kind = ["cell", isSelected && "selected", place === cursor && "cursor", isChanged(index) && "changed", looked.has(index) && "looked", isPaired && item.group % 2 && "odd"].filter(Boolean).join(" ");
  const style = `transform: translate(${(place % columns) * CELL.width}px, ${Math.floor(place / columns) * CELL.height}px)`;
  return html`<div key=${index} id=${`cell-${index}`} class=${kind} style=${style} role="option" aria-selected=${isSelected} aria-label=${`${item.key}, ${said(index)}`} onClick=${(event) => clicked(place, event)} title=${item.key}>
    ${item.small ? html`<img src=${item.small} alt="" decoding="async" />` : html`<span class="none"></span>`}
    <b>${said(index)}</b>${isChanged(index) && html`<s>${originals[index] ?? "no label"}</s>`}
    ${item.hint && item.hint !== labels[index] && html`<i>${item.hint}?</i>`}${item.note && html`<i>${item.note}</i>`}<small>${item.key.slice(item.key.lastIndexOf("/") + 1)}</small></div>`;
}

function Page() {
  const first = Math.max(0, (Math.floor(top / CELL.height) - 2) * columns);
  const last = Math.min(shown.length, (Math.ceil((top + height) / CELL.height) + 2) * columns);
  const cells = [];
  for (let place = first; place < last; place += 1) cells.push(Picture(place));
  const names = known(), count = changed().length, isNew = changed().some((index) => !classes.includes(labels[index]));
  return html`
    <div class="tools" role="toolbar" aria-label="Classes">
      ${names.slice(0, 24).map((name, at) => html`<button onClick=${() => { assign(name); draw(); focusGrid(); }}>${at < 9 && html`<kbd>${at + 1}</kbd> `}${name}</button>`)}
      ${chooser !== null && html`<label>class <input id="chooser" list="names" value=${chooser} onKeyDown=${picked} onBlur=${left} /></label>
        <datalist id="names">${names.map((name) => html`<option value=${name} />`)}</datalist>`}
    </div>
    <div class="tools">
      <label>key <input type="search" value=${filter.text} onInput=${(event) => filtered("text", event.target.value)} /></label>
      <label>label <select value=${filter.label} onChange=${(event) => filtered("label", event.target.value)}><option value="">all</option>${[...names, "no label"].map((name) => html`<option value=${name}>${name}</option>`)}</select></label>
      <label>show <select value=${filter.only} onChange=${(event) => filtered("only", event.target.value)}><option value="all">all</option><option value="left">not looked at</option><option value="changed">changed</option><option value="differs">otherwise suggested</option></select></label>
      <button disabled=${!done.length} onClick=${() => { back(done, undone, "before"); draw(); focusGrid(); }}>Undo</button>
      <button disabled=${!undone.length} onClick=${() => { back(undone, done, "after"); draw(); focusGrid(); }}>Redo</button>
      <button class="main" disabled=${!count} onClick=${save}>Save the table</button>
      <label class="button">Go on from a table<input class="skip" type="file" accept=".csv" onChange=${load} /></label>
    </div>
    <p class="state"><span>${shown.length.toLocaleString("en")} of ${items.length.toLocaleString("en")} shown, ${looked.size.toLocaleString("en")} looked at, ${count.toLocaleString("en")} changed${isNew ? " (new classes: change them with --new-classes)" : ""}</span> <span role="status">${message}</span></p>
    <div id="grid" tabindex="0" role="listbox" aria-multiselectable="true" aria-label="Pictures" aria-activedescendant=${shown.length ? `cell-${shown[cursor]}` : null} onKeyDown=${pressed} onScroll=${(event) => { top = event.target.scrollTop; later(); }}>
      <div class="all" style=${`height: ${Math.ceil(shown.length / columns) * CELL.height}px`}>${cells}</div>
    </div>`;
}

let isAsked = false;
function later() {
  if (isAsked) return;
  isAsked = true;
  requestAnimationFrame(() => { isAsked = false; draw(); });
}

function draw() {
  render(Page(), app);
  const input = document.getElementById("chooser");
  if (input && document.activeElement !== input) { input.focus(); input.setSelectionRange(input.value.length, input.value.length); }
}

function measure() {
  const grid = document.getElementById("grid");
  const fit = Math.max(1, Math.floor((grid.clientWidth - 2) / CELL.width));
  columns = isPaired && fit > 1 ? fit - (fit % 2) : fit;
  height = grid.clientHeight;
  draw();
}

try { takeUp(JSON.parse(localStorage.getItem(id) ?? "{}")); } catch { /* kept by another version, or not to be had */ }
draw();
measure();
intoView();
addEventListener("resize", measure);
document.getElementById("grid").focus({ preventScroll: true });
