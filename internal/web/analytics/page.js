// The rule in hand is drawn on the camera's picture: what is drawn goes into the sentence's fields, which say the same
// for who has no pointer.
import { draw, fitAll } from "../js/drawing.js";
import { rehearse } from "./analytics/rehearsing.js";

document.documentElement.classList.add("scripted");

const hundredth = (v) => String(Math.round(10000 * v) / 100);
const words = (shape) => shape.map((p) => p.map(hundredth).join(" ")).join(", ");
// places reads what words wrote; what isn't a place is left out.
const places = (text) =>
  text
    .split(",")
    .map((p) => p.trim().split(/\s+/).map(Number))
    .filter((p) => p.length === 2 && p.every((v) => v >= 0 && v <= 100))
    .map((p) => p.map((v) => v / 100));

// rows reads cells as the field has them into rows of 0 and 1, of a grid; empty where they are of another.
const rows = (text, columns, high) => {
  const all = text.split("/").map((row) => Array.from(row, (c) => (c === "#" ? 1 : 0)));
  return all.length === high && all.every((r) => r.length === columns)
    ? all
    : Array.from({ length: high }, () => Array(columns).fill(0));
};

// edit draws what a form says on a figure, once for both.
function edit(form, figure) {
  if (form.drawsOn === figure) return;
  form.drawsOn = figure;
  const kind = form.elements.kind;
  const line = () => "line" in kind.selectedOptions[0].dataset;
  const painted = () => "cells" in kind.selectedOptions[0].dataset;
  const toolOf = () => (of !== "points" ? "polygon" : painted() ? "brush" : line() ? "path" : "polygon");
  const fields = { points: form.elements.points, without: form.elements.without };
  let of = "points";
  let drawing = null;
  let tool = "";
  const begin = () => {
    if (drawing) drawing.end();
    if (painted()) of = "points";
    tool = toolOf();
    for (const b of form.querySelectorAll("[data-draws]"))
      b.setAttribute("aria-pressed", String(b.dataset.draws === of));
    if (tool === "brush") return paint();
    const least = tool === "path" ? 2 : 3;
    const start = (of === "points" ? [fields.points.value] : fields.without.value.split(";"))
      .map(places)
      .filter((s) => s.length >= least);
    const said = fields[of].value;
    let drew = false; // what was typed stays until something is drawn
    drawing = draw(figure, {
      tool,
      most: of === "points" ? 1 : 8,
      start,
      edit: true,
      changed(shapes) {
        const text = shapes.map(words).join("; ");
        if (drew || text !== start.map(words).join("; ")) {
          fields[of].value = text;
          drew = true;
          form.dispatchEvent(new Event("rule:drawn"));
        } else fields[of].value = said;
      },
    });
    drawing.begin();
  };
  const paint = () => {
    const field = form.elements.cells;
    const [columns, high] = [Number(form.dataset.columns), Number(form.dataset.rows)];
    const text = (all) => all.map((row) => row.map((v) => (v ? "#" : ".")).join("")).join("/");
    const cells = rows(form.paints ? field.value : form.dataset.painted, columns, high);
    drawing = draw(figure, {
      tool: "brush",
      cells,
      changed(shapes) {
        const now = text(shapes);
        if (!form.paints && now === text(cells)) return;
        form.paints = true;
        field.value = now;
        form.dispatchEvent(new Event("rule:drawn"));
      },
    });
    drawing.begin();
  };
  for (const b of form.querySelectorAll("[data-draws]"))
    b.addEventListener("click", () => {
      of = b.dataset.draws;
      begin();
    });
  // What a rule of cells doesn't show it doesn't say either.
  const unsaid = () => {
    for (const e of form.querySelectorAll(".not-cells input")) e.disabled = painted();
  };
  unsaid();
  kind.addEventListener("change", () => {
    unsaid();
    if (tool !== toolOf()) begin();
  });
  for (const f of Object.values(fields)) f.addEventListener("change", begin);
  form.elements.cells.addEventListener("change", () => {
    form.paints = true;
    begin();
  });
  form.addEventListener("change", (e) => {
    const list = e.target.closest("[data-ticked]");
    if (!list) return;
    const on = [...list.querySelectorAll("input:checked")].map((c) => c.dataset.says);
    list.querySelector("[data-words]").textContent = on.join(list.dataset.ticked) || list.dataset.none;
  });
  // A list of the sentence closes by Esc, and by a press beside it.
  form.addEventListener("keydown", (e) => {
    const open = e.key === "Escape" && e.target.closest("details.token[open]");
    if (!open) return;
    e.stopPropagation();
    open.open = false;
    open.querySelector("summary").focus();
  });
  form.addEventListener("pointerdown", (e) => {
    for (const d of form.querySelectorAll("details.token[open]")) if (!d.contains(e.target)) d.open = false;
  });
  begin();
}

// stand shows beside the pointer how high someone of 1.8 m is there, by the two marks of known size on the picture.
function stand(form, figure) {
  const [middle, rise] = form.dataset.upright.split(" ").map(Number);
  if (figure.stands || !(middle || rise)) return;
  figure.stands = true;
  const frame = figure.querySelector(".frame") || figure;
  const who = document.createElement("span");
  who.className = "upright";
  who.hidden = true;
  who.setAttribute("aria-hidden", "true");
  frame.append(who);
  frame.addEventListener("pointermove", (e) => {
    const box = (figure.querySelector("svg") || frame).getBoundingClientRect();
    const [x, y] = [(e.clientX - box.left) / box.width, (e.clientY - box.top) / box.height];
    const high = 0.9 * (middle + rise * (1 - 2 * y)); // 1.8 m, as a part of the picture's height
    who.hidden = !(high > 0.01 && high < 2 && x >= 0 && x <= 1 && y >= 0 && y <= 1);
    const at = frame.getBoundingClientRect();
    who.style.height = `${high * box.height}px`;
    who.style.width = `${(high * box.height) / 3}px`;
    who.style.left = `${e.clientX - at.left}px`;
    who.style.top = `${e.clientY - at.top}px`;
  });
  frame.addEventListener("pointerleave", () => {
    who.hidden = true;
  });
}

function look() {
  const form = document.getElementById("sentence");
  const figure = document.getElementById("drawing");
  const section = document.getElementById("rehearsal");
  if (form && figure) {
    edit(form, figure);
    stand(form, figure);
  }
  if (form && figure && section) rehearse(section, form, figure);
}
fitAll();
look();
// The rule in hand is in sight where the list is longer than its place.
for (const li of document.querySelectorAll(".rulelist li.inhand")) {
  const list = li.parentElement;
  list.scrollTop = li.offsetTop - list.offsetTop - (list.clientHeight - li.offsetHeight) / 2;
}
new MutationObserver(() => {
  fitAll();
  look();
}).observe(document.querySelector("main") || document.body, { childList: true, subtree: true });
