// What the rule in the form would have fired on, of what the camera's analytics saw: counted anew at every change, each
// firing a mark on a strip of time that shows the way of its object on the picture.
const SVG = "http://www.w3.org/2000/svg";
const ACROSS = 1600; // units of the layer over the picture
const DOWN = 900;
const SOON = 60; // ms: so long a change waits for the next
const TALL = 96; // of the rows of the strip
const rows = { hits: 4, hits_as_on_camera: 28, fired: 52, checked: 76 };
const parts = { score: 1, for: 1, share: 100, lowest: 100, margin: 50 }; // a figure of the form, by what the rule has

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

  const picked = section.querySelector(".picked");
  const weighed = section.querySelector(".weighed");
  const days = section.querySelector(".bydays");
  // same says whether two are one firing: of one object, within three seconds.
  const same = (a, b) => a.object === b.object && Math.abs(Date.parse(a.at) - Date.parse(b.at)) <= 3000;

  const clear = () => figure.querySelectorAll("[data-way]").forEach((e) => e.remove());
  // pick says which firing is in hand, and asks whether it was right.
  const pick = (hit) => {
    picked.hidden = !hit || !hit.object;
    if (picked.hidden) return;
    picked.elements.object.value = hit.object;
    picked.elements.at.value = hit.at;
    const crop = picked.querySelector(".crop");
    crop.hidden = !hit.picture;
    if (hit.picture) {
      const of = new URLSearchParams({ object: hit.object, at: hit.at });
      crop.alt = `What the camera sent of it: ${hit.class || "something"}`;
      crop.src = `${crop.dataset.at}&${of}`;
    }
    picked.querySelector("[data-picked]").textContent =
      [hit.class || "Something", hit.looks, ...(hit.known || [])].filter(Boolean).join(", ") +
      " at " +
      clock.format(new Date(hit.at)) +
      ":";
    const is = (last.checked || []).find((c) => same(c, hit));
    const said = is ? (is.right ? "right" : "wrong") : "neither";
    for (const b of picked.querySelectorAll("[data-was]"))
      b.setAttribute("aria-pressed", String(b.dataset.was === said && said !== "neither"));
  };
  const way = (hit) => {
    clear();
    shown = hit;
    pick(hit);
    if (!hit || !hit.path) return;
    const g = element(figure.querySelector("[data-marks]"), "g", { "data-way": "1" });
    const at = ([x, y]) => ((x / 100) * ACROSS).toFixed(1) + "," + ((y / 100) * DOWN).toFixed(1);
    element(g, "polyline", { class: "way under", points: hit.path.map(at).join(" ") });
    element(g, "polyline", { class: "way", points: hit.path.map(at).join(" ") });
    const [x, y] = [(hit.place[0] / 100) * ACROSS, (hit.place[1] / 100) * DOWN];
    element(g, "circle", { class: "fired", cx: x, cy: y, r: 18 });
    element(g, "text", { x: x + 28, y: y - 18 }, "fires " + clock.format(new Date(hit.at)));
  };
  // beside counts those of one list that the other hasn't.
  const beside = (a, b) => (a || []).filter((h) => !(b || []).some((o) => same(h, o))).length;
  const firedSays = (r) => {
    const n = (r.fired || []).length;
    if (!r.held && !n) return "it told of no firing";
    if (!r.held || r.held.foretold + r.held.fired === 0) return `it fired ${n} times`;
    const off = r.held.foretold + r.held.fired - r.held.both;
    const part = Math.round((100 * (off - r.held.both)) / off);
    const why = r.held.explains ? `: ${r.held.explains}` : "";
    return `it fired ${r.held.fired}, ${r.held.foretold} were foretold, ${part} % off${why}`;
  };
  const showWeighed = (w) => {
    weighed.hidden = !w;
    if (!w) return;
    weighed.querySelector("[data-weighed]").textContent = w.says;
    const use = weighed.querySelector("[data-use]");
    use.hidden = !w.suggested;
    use.onclick = () => {
      const field = form.elements[w.suggested.part];
      field.value = String(Math.round(1000 * w.suggested.value * parts[w.suggested.part]) / 1000);
      field.dispatchEvent(new Event("input", { bubbles: true }));
    };
  };
  const showDays = (all) => {
    days.hidden = all.length === 0;
    days.querySelector("tbody").replaceChildren(
      ...all.map((d) => {
        const tr = document.createElement("tr");
        const every = d.foretold + d.fired - d.both;
        for (const [i, v] of [
          d.date,
          d.foretold,
          d.fired,
          d.both,
          Math.round((100 * (every - d.both)) / every),
        ].entries()) {
          const td = document.createElement("td");
          td.textContent = v;
          if (i) td.className = "num";
          tr.append(td);
        }
        return tr;
      }),
    );
  };
  const show = (r) => {
    const held = strip.contains(document.activeElement) && document.activeElement.dataset.hit;
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
    element(strip, "rect", { class: "unheard", x: 0, y: 0, width: WIDE, height: TALL });
    let [after, gap] = [0, [0, 0]]; // the widest of the times that weren't listened to
    for (const [a, b] of [...(r.listened || []), [r.to, r.to]]) {
      if (x(a) - after > gap[1] - gap[0]) gap = [after, x(a)];
      after = Math.max(after, x(b));
      if (a !== b)
        element(strip, "rect", { class: "heard", x: x(a), y: 0, width: Math.max(1, x(b) - x(a)), height: TALL });
    }
    if (gap[1] - gap[0] > 170)
      element(strip, "text", { class: "notseen", x: gap[0] + 10, y: 34 }, "hatched: not listened to");
    if (r.since && Date.parse(r.since) > from && Date.parse(r.since) < to) {
      element(strip, "line", {
        class: "since",
        x1: x(r.since),
        x2: x(r.since),
        y1: rows.hits_as_on_camera,
        y2: rows.checked,
      });
    }
    for (let i = 0; i <= 4; i++) {
      const t = from + ((to - from) * i) / 4;
      const anchor = i === 0 ? "start" : i === 4 ? "end" : "middle";
      element(strip, "line", { class: "tick", x1: (WIDE * i) / 4, x2: (WIDE * i) / 4, y1: 0, y2: TALL });
      element(strip, "text", { x: (WIDE * i) / 4, y: TALL + 14, "text-anchor": anchor }, short.format(new Date(t)));
    }
    const marks = {
      hits: r.hits,
      hits_as_on_camera: r.hits_as_on_camera,
      fired: (r.fired || []).map((at) => ({ at })),
      checked: r.checked,
    };
    for (const [name, y] of Object.entries(rows))
      for (const hit of marks[name] || []) {
        const at = clock.format(new Date(hit.at));
        const says = {
          hits: `${hit.class || "something"} at ${at}`,
          hits_as_on_camera: `${hit.class || "something"} at ${at}, as the camera has it`,
          fired: `the camera fired at ${at}`,
          checked: `${hit.right ? "right" : "wrong"} at ${at}`,
        }[name];
        const mark =
          name === "checked"
            ? element(strip, "path", {
                class: hit.right ? "tick-right" : "cross-wrong",
                d: hit.right ? "M-5 0 l4 5 l7 -10" : "M-5 -5 L5 5 M5 -5 L-5 5",
                transform: `translate(${x(hit.at)} ${y + 9})`,
              })
            : element(strip, "rect", {
                class: { hits: "hit", hits_as_on_camera: "hit there", fired: "hit real" }[name],
                x: x(hit.at) - 2,
                y,
                width: 5,
                height: 18,
              });
        if (name === "fired" || name === "checked") {
          element(mark, "title", {}, says);
          continue;
        }
        mark.setAttribute("tabindex", 0);
        mark.dataset.hit = name + hit.object + hit.at;
        mark.setAttribute("role", "button");
        mark.setAttribute("aria-label", says);
        const choose = () => way(hit);
        mark.addEventListener("click", choose);
        mark.addEventListener("keydown", (e) => {
          if (e.key !== "Enter" && e.key !== " ") return;
          e.preventDefault();
          choose();
        });
      }
    if (held) strip.querySelector(`[data-hit="${CSS.escape(held)}"]`)?.focus();
    const minutes = Number(over.value);
    const heard = Math.min(minutes, Math.round(r.minutes_listened * 10) / 10);
    const of = minutes === 60 ? "60 minutes" : minutes === 1440 ? "the day" : minutes + " minutes";
    const [gained, lost] = [beside(r.hits, r.hits_as_on_camera), beside(r.hits_as_on_camera, r.hits)];
    const there =
      r.fires_as_on_camera === undefined
        ? ""
        : ` · ${r.fires_as_on_camera} as the camera has it (${gained} more, ${lost} fewer) · ` + firedSays(r);
    const untold = r.untold ? " · " + r.untold : "";
    says.textContent = r.objects
      ? `${r.fires} would have fired${there} · ${r.objects} seen in ${heard} of ${of}${r.part ? ", of which not all is rehearsed" : ""}${untold}`
      : heard
        ? `Nothing was seen in ${heard} minutes of ${of}: let someone walk there, and look again.`
        : "Nothing was gathered in that time.";
    showWeighed(r.weighed);
    showDays(r.days || []);
    if (shown) pick(shown);
    if (
      shown &&
      !(r.hits || []).some((h) => same(h, shown)) &&
      !(r.hits_as_on_camera || []).some((h) => same(h, shown))
    )
      way(null);
  };
  const ask = async () => {
    const nth = ++asked;
    if ("cells" in kind.selectedOptions[0].dataset) {
      says.textContent =
        "Motion in cells is of the picture: what its analytics tell of objects doesn’t say when it fires.";
      strip.replaceChildren();
      return;
    }
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
  // The slider and the field of the figure that it moves say the same.
  const slide = section.querySelector("input[type=range]");
  const which = section.querySelector("[data-slides]");
  const slid = section.querySelector("[data-slid]");
  const kind = form.elements.kind;
  const follow = () => {
    const of = which.selectedOptions[0].dataset;
    const field = form.elements[which.value];
    Object.assign(slide, { min: of.least, max: of.most, step: of.step });
    slide.value = field.value || of.usual;
    slid.textContent = field.value || (Number(of.usual) ? of.usual : "any");
  };
  const fit = () => {
    const is = kind.selectedOptions[0].dataset;
    for (const o of which.options)
      o.hidden = o.disabled =
        ("for" in o.dataset && !("for" in is)) ||
        ("line" in o.dataset && !("line" in is)) ||
        ("area" in o.dataset && "line" in is) ||
        "cells" in is;
    if (which.selectedOptions[0].disabled) which.value = "score";
    follow();
  };
  slide.addEventListener("input", () => {
    form.elements[which.value].value = slide.value;
    slid.textContent = slide.value;
    again();
  });
  which.addEventListener("change", follow);
  kind.addEventListener("change", fit);
  form.addEventListener("input", follow);
  fit();
  // What is said of a firing is kept at once; what other settings would make of it follows.
  for (const b of picked.querySelectorAll("[data-was]"))
    b.addEventListener("click", () => (picked.elements.was.value = b.dataset.was));
  picked.addEventListener("submit", async (e) => {
    e.preventDefault();
    try {
      const res = await fetch(picked.action, {
        method: "POST",
        body: new URLSearchParams(new FormData(picked)),
        headers: { Accept: "application/json" },
      });
      const said = await res.json().catch(() => ({}));
      if (!res.ok) says.textContent = said.error || "It wasn’t kept: try once more.";
      else ask();
    } catch {
      says.textContent = "This page doesn’t reach the server.";
    }
  });
  section.addEventListener("keydown", (e) => {
    if (picked.hidden || e.ctrlKey || e.metaKey || e.altKey || e.target.matches("input, select")) return;
    const b = { y: "right", n: "wrong" }[e.key];
    if (!b) return;
    e.preventDefault();
    picked.querySelector(`[data-was=${b}]`).click();
  });
  form.addEventListener("input", again);
  form.addEventListener("change", again);
  form.addEventListener("rule:drawn", again);
  over.addEventListener("change", again);
  section.querySelector("[data-again]").addEventListener("click", again);
  let wide = 0;
  new ResizeObserver(() => {
    const now = strip.getBoundingClientRect().width;
    if (last && now !== wide) show(last);
    wide = now;
  }).observe(strip);
  ask();
}
