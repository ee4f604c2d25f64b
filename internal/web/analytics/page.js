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

// edit draws what a form says on a figure, once for both.
function edit(form, figure) {
  if (form.drawsOn === figure) return;
  form.drawsOn = figure;
  const kind = form.elements.kind;
  const line = () => "line" in kind.selectedOptions[0].dataset;
  const fields = { points: form.elements.points, without: form.elements.without };
  let of = "points";
  let drawing = null;
  let tool = "";
  const begin = () => {
    if (drawing) drawing.end();
    tool = of === "points" && line() ? "path" : "polygon";
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
    for (const b of form.querySelectorAll("[data-draws]"))
      b.setAttribute("aria-pressed", String(b.dataset.draws === of));
  };
  for (const b of form.querySelectorAll("[data-draws]"))
    b.addEventListener("click", () => {
      of = b.dataset.draws;
      begin();
    });
  kind.addEventListener("change", () => {
    if (of === "points" && tool !== (line() ? "path" : "polygon")) begin();
  });
  for (const f of Object.values(fields)) f.addEventListener("change", begin);
  const who = form.querySelector("[data-who]");
  form.addEventListener("change", (e) => {
    if (e.target.name !== "class") return;
    const on = [...form.querySelectorAll("[name=class]:checked")].map((c) => c.value.toLowerCase());
    who.textContent = on.join(", ") || "anything";
  });
  begin();
}

function look() {
  const form = document.getElementById("sentence");
  const figure = document.getElementById("drawing");
  const section = document.getElementById("rehearsal");
  if (form && figure) edit(form, figure);
  if (form && figure && section) rehearse(section, form, figure);
}
fitAll();
look();
new MutationObserver(() => {
  fitAll();
  look();
}).observe(document.querySelector("main") || document.body, { childList: true, subtree: true });
