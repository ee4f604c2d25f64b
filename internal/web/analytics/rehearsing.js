// What the rule in the form would have fired on, of what the camera's analytics saw: counted anew at every change, each
// firing a mark on a strip of time that shows the way of its object on the picture.
const SVG = "http://www.w3.org/2000/svg";
const ACROSS = 1600; // units of the layer over the picture
const DOWN = 900;
const SOON = 60; // ms: so long a change waits for the next
const rows = { hits: 8, hits_as_on_camera: 38 };

const element = (into, name, attributes, text = "") => {
  const e = document.createElementNS(SVG, name);
  for (const [k, v] of Object.entries(attributes)) e.setAttribute(k, v);
  if (text) e.textContent = text;
  into.append(e);
  return e;
};

// rehearse keeps a section's strip as the form says; once for each.
export function rehearse(section, form, figure) {
  if (section.rehearses === form) return;
  section.rehearses = form;
  const strip = section.querySelector("svg");
  const says = section.querySelector("[data-says]");
  const over = section.querySelector("[name=minutes]");
  const zone = section.dataset.zone;
  const clock = new Intl.DateTimeFormat("en-GB", {
    timeZone: zone,
    hour: "2-digit",
    minute: "2-digit",
    second: "2-digit",
  });
  const short = new Intl.DateTimeFormat("en-GB", { timeZone: zone, hour: "2-digit", minute: "2-digit" });
  let asked = 0;
  let soon = null;
  let shown = null; // the firing whose way is on the picture
  let last = null; // what was rehearsed

  const clear = () => figure.querySelectorAll("[data-way]").forEach((e) => e.remove());
  const way = (hit) => {
    clear();
    shown = hit;
    if (!hit || !hit.path) return;
    const g = element(figure.querySelector("[data-marks]"), "g", { "data-way": "1" });
    const at = ([x, y]) => ((x / 100) * ACROSS).toFixed(1) + "," + ((y / 100) * DOWN).toFixed(1);
    element(g, "polyline", { class: "way under", points: hit.path.map(at).join(" ") });
    element(g, "polyline", { class: "way", points: hit.path.map(at).join(" ") });
    const [x, y] = [(hit.place[0] / 100) * ACROSS, (hit.place[1] / 100) * DOWN];
    element(g, "circle", { class: "fired", cx: x, cy: y, r: 18 });
    element(g, "text", { x: x + 28, y: y - 18 }, "fires " + clock.format(new Date(hit.at)));
  };
  const show = (r) => {
    strip.replaceChildren();
    const WIDE = Math.round(strip.getBoundingClientRect().width) || 900;
    last = r;
    const [from, to] = [Date.parse(r.from), Date.parse(r.to)];
    const x = (t) => ((Date.parse(t) - from) / (to - from)) * WIDE;
    const hatch = element(element(strip, "defs", {}), "pattern", {
      id: "unheard",
      width: 8,
      height: 8,
      patternUnits: "userSpaceOnUse",
      patternTransform: "rotate(45)",
    });
    element(hatch, "rect", { class: "stripe", width: 1, height: 8 });
    element(strip, "rect", { class: "unheard", x: 0, y: 0, width: WIDE, height: 60 });
    if (r.minutes_listened * 60000 < 0.7 * (to - from))
      element(strip, "text", { class: "notseen", x: 10, y: 34 }, "hatched: not listened to");
    for (const [a, b] of r.listened || [])
      element(strip, "rect", { class: "heard", x: x(a), y: 0, width: Math.max(1, x(b) - x(a)), height: 60 });
    for (let i = 0; i <= 4; i++) {
      const t = from + ((to - from) * i) / 4;
      const anchor = i === 0 ? "start" : i === 4 ? "end" : "middle";
      element(strip, "line", { class: "tick", x1: (WIDE * i) / 4, x2: (WIDE * i) / 4, y1: 0, y2: 60 });
      element(strip, "text", { x: (WIDE * i) / 4, y: 76, "text-anchor": anchor }, short.format(new Date(t)));
    }
    for (const [name, y] of Object.entries(rows))
      for (const hit of r[name] || []) {
        const mark = element(strip, "rect", {
          class: name === "hits" ? "hit" : "hit there",
          x: x(hit.at) - 2,
          y,
          width: 5,
          height: 16,
          tabindex: 0,
          role: "button",
          "aria-label": (hit.class || "something") + " at " + clock.format(new Date(hit.at)),
        });
        const choose = () => way(hit);
        mark.addEventListener("click", choose);
        mark.addEventListener("keydown", (e) => {
          if (e.key !== "Enter" && e.key !== " ") return;
          e.preventDefault();
          choose();
        });
      }
    const minutes = Number(over.value);
    const heard = Math.min(minutes, Math.round(r.minutes_listened * 10) / 10);
    const of = minutes === 60 ? "60 minutes" : minutes === 1440 ? "the day" : minutes + " minutes";
    const there =
      r.fires_as_on_camera === undefined ? "" : ` · ${r.fires_as_on_camera} as the camera has it, by the same meaning`;
    says.textContent = r.objects
      ? `${r.fires} would have fired${there} · ${r.objects} seen in ${heard} of ${of}${r.part ? ", of which not all is rehearsed" : ""}`
      : heard
        ? `Nothing was seen in ${heard} minutes of ${of}: let someone walk there, and look again.`
        : "Nothing was gathered in that time.";
    if (shown && !(r.hits || []).some((h) => h.at === shown.at && h.object === shown.object)) way(null);
  };
  const ask = async () => {
    const nth = ++asked;
    if (!form.elements.points.value.trim()) {
      says.textContent = "Draw it, and it is rehearsed.";
      return;
    }
    const body = new URLSearchParams(new FormData(form));
    body.set("minutes", over.value);
    try {
      const res = await fetch(section.dataset.at, {
        method: "POST",
        headers: { "X-CSRF-Token": form.elements._csrf.value, Accept: "application/json" },
        body,
      });
      const r = await res.json();
      if (nth !== asked) return; // a later change was asked for meanwhile
      if (res.ok) show(r);
      else says.textContent = r.error || "The server answered " + res.status + ".";
    } catch {
      if (nth === asked) says.textContent = "This page doesn’t reach the server.";
    }
  };
  const again = () => {
    clearTimeout(soon);
    soon = setTimeout(ask, SOON);
  };
  // A slider and its field say the same.
  for (const slide of section.querySelectorAll("input[type=range]")) {
    const field = form.elements[slide.dataset.field];
    slide.value = field.value || slide.dataset.usual;
    slide.addEventListener("input", () => {
      field.value = slide.value;
      again();
    });
    field.addEventListener("input", () => (slide.value = field.value || slide.dataset.usual));
  }
  form.addEventListener("input", again);
  form.addEventListener("change", again);
  form.addEventListener("rule:drawn", again);
  over.addEventListener("change", again);
  section.querySelector("[data-again]").addEventListener("click", again);
  new ResizeObserver(() => last && show(last)).observe(section);
  ask();
}
