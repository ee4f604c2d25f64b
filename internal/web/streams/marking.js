// What is drawn on the picture while its panel is open: two marks of known size as lines, or a privacy mask as the
// camera takes it. The fields of the panel's form say the same, for who has no pointer.
import { draw } from "../../js/drawing.js";

const at = (v) => (100 * v).toFixed(1);
const fill = (form, name, value) => {
  const field = form.elements[name];
  if (field) field.value = value;
};

const places = (shape) => (shape || []).map((p) => p.map(at).join(" ")).join(", ");

// into fills a form by what was drawn.
const into = {
  line(form, shapes) {
    for (const i of [0, 1]) fill(form, "mark-" + i, places(shapes[i]));
  },
  box(form, [s]) {
    const edge = (pick, axis) => (s ? at(pick(s[0][axis], s[1][axis])) : "");
    fill(form, "left", edge(Math.min, 0));
    fill(form, "top", edge(Math.min, 1));
    fill(form, "right", edge(Math.max, 0));
    fill(form, "bottom", edge(Math.max, 1));
  },
  polygon(form, [s]) {
    fill(form, "corners", places(s));
  },
};

// mark has what is drawn on a panel's picture go into its form, once for each picture.
function mark(panel) {
  const shown = panel.querySelector("form [name=shown]");
  const form = shown && shown.form;
  const figure = form && document.querySelector(`figure.still[data-source="${form.elements.source.value}"]`);
  if (!figure || panel.drawnOn === figure) return;
  panel.drawnOn = figure;
  const tool = panel.dataset.draw;
  let drew = false; // what was typed stays until something is drawn
  const drawing = draw(figure, {
    tool,
    most: Number(panel.dataset.most || 1),
    corners: Number(panel.dataset.corners || 0),
    changed(shapes) {
      if (shapes.length || drew) into[tool](form, shapes);
      drew = shapes.length > 0;
    },
  });
  // What is drawn says whose picture it was drawn on.
  form.addEventListener("submit", () => {
    form.elements.shown.value = figure.isConnected ? figure.dataset.source : "another";
  });
  panel.addEventListener("toggle", () => {
    // What is drawn outlives an update of the page.
    figure.toggleAttribute("data-keep", panel.open || "moving" in figure.dataset);
    if (!panel.open) return drawing.end();
    drawing.begin();
    panel.scrollIntoView({ block: "nearest" });
  });
  if (panel.open) drawing.begin();
}

// mark all panels, also those that an update brings.
export function markAll() {
  for (const panel of document.querySelectorAll("details[data-draw]")) mark(panel);
}
