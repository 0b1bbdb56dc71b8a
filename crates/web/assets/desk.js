// Small behaviours of our own; everything works without them, by following links and sending forms.

// A plan's answer arrives while the next number is being typed: what is typed stays.
Idiomorph.defaults.ignoreActiveValue = true;

const workingBox = () => document.getElementById("working");

// A figure of something that is being edited goes by what the form holds.
const askWorking = (figure) => fetch(figure.href ?? figure.formAction, {
  headers: { "HX-Request": "true" },
  ...(figure.form && { method: "POST", body: new URLSearchParams(new FormData(figure.form, figure)) }),
});

// Workings: a computed figure opens its working beside itself.
document.addEventListener("click", async (event) => {
  const figure = event.target.closest(".working");
  if (!figure || event.ctrlKey || event.metaKey || event.shiftKey) return;
  event.preventDefault();
  const box = workingBox();
  const answer = await askWorking(figure);
  if (!answer.ok && figure.href) { location.href = figure.href; return; }
  // Leaving the page would lose what is typed.
  box.innerHTML = answer.ok ? await answer.text() : "This figure’s working can’t be shown now. What you typed is still here.";
  box.showPopover();
  const at = figure.getBoundingClientRect();
  const size = box.getBoundingClientRect();
  box.style.left = `${Math.max(8, Math.min(at.right - size.width, innerWidth - size.width - 8))}px`;
  const below = at.bottom + 6;
  box.style.top = `${below + size.height < innerHeight ? below : Math.max(8, at.top - size.height - 6)}px`;
  box.returnTo = figure;
  box.focus();
});

// Enter in a field presses a form's first button; what was typed has been answered by then.
document.addEventListener("click", (event) => {
  if (event.target.closest("[data-default]")) event.preventDefault();
});

document.addEventListener("toggle", (event) => {
  if (event.target.id === "working" && event.newState === "closed") event.target.returnTo?.focus();
}, true);

// Selection: rows of a table and blocks of a chart stand for the same things, by data-key.
const chosen = new Set();

function things() { return [...document.querySelectorAll("[data-key]")]; }

function show() {
  for (const thing of things()) {
    thing.classList.toggle("is-chosen", chosen.has(thing.dataset.key));
    const box = thing.querySelector("input.choose");
    if (box) box.checked = chosen.has(thing.dataset.key);
  }
  const readout = document.getElementById("readout");
  if (readout) readout.textContent = chosen.size ? summary() : readout.dataset.idle;
}

const thin = (text) => text.replace(/\B(?=(\d{3})+(?!\d))/g, "\u202f");
const rounded = (x) => (x < 0 ? "−" : "") + thin(Math.abs(x) < 1000 ? Math.abs(x).toFixed(x % 1 ? 2 : 0) : Math.abs(x).toFixed(0));

function summary() {
  const rows = [...document.querySelectorAll("tr[data-key]")].filter((row) => chosen.has(row.dataset.key));
  const sum = (name) => rows.reduce((total, row) => total + Number(row.dataset[name] || 0), 0);
  const [spend, conversions, value, excess] = ["spend", "conversions", "value", "excess"].map(sum);
  const parts = [`${chosen.size} chosen`, `spend ${rounded(spend)}`, `conversions ${rounded(conversions)}`];
  if (conversions > 0) parts.push(`CPA ${rounded(spend / conversions)}`);
  if (value > 0) parts.push(`ROAS ${(value / spend).toFixed(2)}`);
  parts.push(excess > 0 ? `excess ${rounded(excess)}` : `room ${rounded(-excess)}`);
  return parts.join(" · ");
}

function toggle(key, on = !chosen.has(key)) {
  if (on) chosen.add(key); else chosen.delete(key);
  show();
}

document.addEventListener("change", (event) => {
  const box = event.target.closest("input.choose");
  if (box) toggle(box.closest("[data-key]").dataset.key, box.checked);
});

// Read-outs: what is pointed at or focused in a chart, in words.
for (const kind of ["pointerover", "focusin"]) {
  document.addEventListener(kind, (event) => {
    const block = event.target.closest("[data-readout]");
    const readout = document.getElementById("readout");
    if (block && readout && !chosen.size) readout.textContent = block.dataset.readout;
  });
}

// Dragging across the spend field selects what it crosses; a click still opens.
let drag = null;
document.addEventListener("pointerdown", (event) => {
  const field = event.target.closest(".field");
  if (field && event.button === 0) drag = { field, from: event.clientX, moved: false };
});
document.addEventListener("pointermove", (event) => {
  if (!drag || Math.abs(event.clientX - drag.from) < 6) return;
  drag.moved = true;
  const [left, right] = [Math.min(drag.from, event.clientX), Math.max(drag.from, event.clientX)];
  for (const block of drag.field.querySelectorAll("[data-key]")) {
    const at = block.getBoundingClientRect();
    toggle(block.dataset.key, at.right > left && at.left < right);
  }
});
document.addEventListener("pointerup", () => { const was = drag; setTimeout(() => { if (drag === was) drag = null; }); });
document.addEventListener("click", (event) => {
  if (drag?.moved && event.target.closest(".field")) { event.preventDefault(); drag = null; }
}, true);
document.addEventListener("dragstart", (event) => { if (event.target.closest(".field")) event.preventDefault(); });

// The tray opens upward over any page; the same button, or Escape, closes it.
document.addEventListener("htmx:beforeRequest", (event) => {
  const panel = event.detail.target;
  if (panel.id === "tray-panel" && panel.hasChildNodes()) { event.preventDefault(); panel.replaceChildren(); }
});

// Keyboard: g and a letter go to a station; j, k, x, Enter work on rows; / filters; [ ] move the period; ? shows all.
let going = false;
document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.target.closest("input, select, textarea")) return;
  const rows = [...document.querySelectorAll("tr[data-key]")];
  const here = document.activeElement.closest?.("[data-key]");
  const row = here && rows.find((r) => r.dataset.key === here.dataset.key);
  const goTo = (next) => next?.querySelector("th a")?.focus();
  if (going) {
    going = false;
    const station = document.querySelector(`[data-go="${CSS.escape(event.key)}"]`);
    if (station) { event.preventDefault(); station.click(); }
    return;
  }
  switch (event.key) {
    case "g": going = true; break;
    case "j": goTo(rows[row ? rows.indexOf(row) + 1 : 0]); break;
    case "k": goTo(rows[row ? rows.indexOf(row) - 1 : rows.length - 1]); break;
    case "x": if (here) toggle(here.dataset.key); break;
    case "t": document.querySelector("[data-tray]")?.click(); break;
    case "/": document.querySelector("[data-filter]")?.focus(); break;
    case "[": document.querySelector("[data-earlier]")?.click(); break;
    case "]": document.querySelector("[data-later]")?.click(); break;
    case "?": document.getElementById("keys")?.showPopover(); break;
    case "Escape": document.getElementById("tray-panel")?.replaceChildren(); chosen.clear(); show(); return;
    default: return;
  }
  event.preventDefault();
});

// Fragments that arrive keep the selection.
document.addEventListener("htmx:afterSettle", show);

// A page that comes anew when a fetch has ended would lose what somebody has typed: then it is only offered.
const touched = (field) => (/^(checkbox|radio)$/.test(field.type) ? field.checked !== field.defaultChecked : field.value !== field.defaultValue);
document.addEventListener("htmx:beforeOnLoad", (event) => {
  if (!event.detail.xhr.getResponseHeader("HX-Refresh")) return;
  if (![...document.querySelectorAll("main input, main textarea")].some(touched)) return;
  event.preventDefault();
  const offer = document.createElement("a");
  offer.href = location.href;
  offer.textContent = "new figures are in";
  event.detail.elt.replaceChildren(offer);
});

// Columns are shown in the order of their list.
document.addEventListener("click", (event) => {
  const item = event.target.closest("[data-up]")?.parentElement;
  if (!item?.previousElementSibling?.matches(".dropdown-item")) return;
  item.previousElementSibling.before(item);
  item.querySelector("[data-up]").focus();
});

// A form that posts a file tells how far it has come, if the browser does.
document.addEventListener("htmx:xhr:progress", (event) => {
  const bar = event.target.querySelector?.("[data-progress]");
  if (bar && event.detail.lengthComputable) bar.setAttribute("width", `${(100 * event.detail.loaded) / event.detail.total}%`);
});

// Handles: dragged along an axis, or moved by the arrow keys, they type their amount into a field of the form. The
// answer is asked for as soon as the one before has come, so that the rest follows the hand.
let held = null;
const grip = (target) => target.closest?.("[data-field]");

let asking = false;
// What was asked for while an answer was under way: the last of it is asked for next. Not kept in the page, which
// answers renew.
let next = null;

function ask(handle, amount) {
  const [least, most, step] = [handle.dataset.least ?? 0, handle.dataset.most, handle.dataset.step ?? 1].map(Number);
  const decimals = step < 1 ? 2 : 0;
  const typed = amount === null ? "" : (Math.round(Math.min(Math.max(amount, least), most) / step) * step).toFixed(decimals);
  type(handle.dataset.field, typed);
}

// The form whose fields the handles of a page type into.
const handled = () => document.querySelector("form[data-handles]");

function type(name, value) {
  const form = handled();
  const field = form?.elements[name];
  if (!field) return;
  field.value = value;
  if (asking) { next = [name, value]; return; }
  asking = true;
  form.dispatchEvent(new Event("change", { bubbles: true }));
}

for (const end of ["htmx:afterRequest", "htmx:sendAbort"]) {
  document.addEventListener(end, (event) => {
    if (!event.detail.elt.matches("form[data-handles]") || !asking) return;
    asking = false;
    if (next) { const [name, value] = next; next = null; type(name, value); }
  });
}

// htmx sends a form where its last pressed button says; an edit is solved, whatever was opened before.
document.addEventListener("htmx:configRequest", (event) => {
  const { elt, triggeringEvent } = event.detail;
  if (!elt.matches("form[data-handles]") || triggeringEvent?.type !== "change" || !elt.hasAttribute("hx-post")) return;
  event.detail.path = elt.getAttribute("hx-post");
  for (const pressed of ["figure", "repair"]) delete event.detail.parameters[pressed];
});

document.addEventListener("pointerdown", (event) => {
  const handle = grip(event.target);
  if (!handle || event.button !== 0) return;
  event.preventDefault();
  handle.focus();
  const svg = handle.ownerSVGElement;
  const scale = svg.viewBox.baseVal.width / svg.getBoundingClientRect().width;
  held = { id: handle.id, from: event.clientX, value: Number(handle.dataset.value), unit: Number(handle.dataset.unit) * scale };
});
document.addEventListener("pointermove", (event) => {
  if (!held || Math.abs(event.clientX - held.from) < 2) return;
  const handle = document.getElementById(held.id);
  if (handle) ask(handle, held.value + (event.clientX - held.from) * held.unit);
});
for (const end of ["pointerup", "pointercancel"]) document.addEventListener(end, () => { held = null; });

document.addEventListener("keydown", (event) => {
  const handle = grip(event.target);
  if (!handle || event.ctrlKey || event.metaKey || event.altKey) return;
  const typed = next?.[0] === handle.dataset.field ? next[1] : handle.closest("form")?.elements[handle.dataset.field]?.value;
  const now = Number(typed || handle.dataset.value);
  const step = Number(handle.dataset.step ?? Number(handle.dataset.most) / 100);
  const moves = { ArrowRight: step, ArrowUp: step, ArrowLeft: -step, ArrowDown: -step, PageUp: 10 * step, PageDown: -10 * step };
  if (event.key in moves) ask(handle, now + moves[event.key]);
  else if (["Delete", "Backspace"].includes(event.key) && !["total", "bid"].includes(handle.dataset.field)) ask(handle, null);
  else return;
  event.preventDefault();
});

// The week: dragging across hours paints them with the brush; arrow keys go from hour to hour.
const hours = (target) => target.closest?.("table[data-week] td")?.querySelector("input:not([readonly])");
const brush = () => document.querySelector("[data-brush]")?.value.trim() ?? "";
const showHour = (field) => field.closest("td").classList.toggle("is-off", ["off", "-", "–", "x"].includes(field.value.trim()));
let painting = null;
function showWeek() { for (const field of document.querySelectorAll("table[data-week] input")) showHour(field); }
document.addEventListener("input", (event) => { if (event.target.closest("table[data-week]")) showHour(event.target); });
document.addEventListener("pointerdown", (event) => {
  const field = hours(event.target);
  if (field && event.button === 0) painting = { from: field, moved: false };
});
document.addEventListener("pointerover", (event) => {
  const field = painting && event.buttons ? hours(event.target) : null;
  if (!field || (field === painting.from && !painting.moved)) return;
  if (!painting.moved) { painting.moved = true; painting.with = painting.from.value.trim() === brush() ? "" : brush(); paint(painting.from); }
  paint(field);
});
function paint(field) { field.value = painting.with; showHour(field); }
for (const end of ["pointerup", "pointercancel"]) document.addEventListener(end, () => { painting = null; });
document.addEventListener("keydown", (event) => {
  const field = event.target.closest("table[data-week] input");
  const by = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0] }[event.key];
  if (!field || !by || (by[1] && field.value)) return;
  const cell = field.closest("td");
  const row = cell.parentElement.parentElement.rows[cell.parentElement.rowIndex - 1 + by[0]];
  const next = row?.cells[cell.cellIndex + by[1]]?.querySelector("input");
  if (!next) return;
  if (event.shiftKey) { painting = { with: brush() }; paint(field); paint(next); painting = null; }
  next.focus();
  event.preventDefault();
});
showWeek();

// One's own clock is offered where it is another.
const myZone = document.querySelector("[data-my-zone]");
if (myZone) {
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  if (zone && zone !== document.querySelector("[data-zone]").value) {
    myZone.href = `?zone=${encodeURIComponent(zone)}`;
    myZone.textContent = `Mine, ${zone}`;
    myZone.hidden = false;
  }
}
