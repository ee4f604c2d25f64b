// Drawing on a picture, by mouse, finger or keys. Places are parts of the picture, 0 to 1 from its upper left corner,
// whatever its aspect and however far it is zoomed in.
//
//   const d = draw(figure, { tool: "line", most: 2, changed: (shapes) => … });
//   d.begin();            // the picture takes what is drawn
//   d.set([[[0.1, 0.9], [0.1, 0.4]]]);
//   d.end();              // and takes nothing any more; what was drawn is gone
//
// A shape is a list of places: a point has one, a line two, a path two or more, a box two corners, a polygon three or
// more. The brush paints the cells of a grid instead: then shapes are rows of 0 and 1. With edit, places of what is drawn
// come, go and move: a press on an edge makes one, Delete takes the chosen one away, N chooses the next for the arrows.
const SVG = "http://www.w3.org/2000/svg";
const ACROSS = 1600; // units of the layer that lies over the picture
const DOWN = 900;
const NEAR = 9; // px: a place that comes so near to another, or to an edge of the picture, is put there
const STEP = 0.01; // by an arrow key; with Shift five of them, with Alt a tenth
const ZOOMS = [1, 1.5, 2, 3, 4, 6, 8];

// least and full are how many places a shape of a tool has.
const tools = {
  point: { least: 1, full: 1 },
  line: { least: 2, full: 2 },
  path: { least: 2, full: 64 },
  box: { least: 2, full: 2 },
  polygon: { least: 3, full: 64 },
  brush: { least: 0, full: 0 },
};

export const within = (v) => Math.min(1, Math.max(0, v));

// snap puts a place onto one of others, or onto an edge of the picture, that is nearer than NEAR; width and height are
// those of the picture in px.
export function snap([x, y], others, width, height) {
  let best = null;
  let least = NEAR;
  for (const [ox, oy] of others) {
    const far = Math.hypot((ox - x) * width, (oy - y) * height);
    if (far <= least) [best, least] = [[ox, oy], far];
  }
  if (best) return best;
  const edge = (v, size) => (v * size <= NEAR ? 0 : (1 - v) * size <= NEAR ? 1 : v);
  return [edge(x, width), edge(y, height)];
}

// level puts a place level with another, or above or below it, whichever is nearer.
export function level([x, y], [ox, oy], width, height) {
  return Math.abs((x - ox) * width) > Math.abs((y - oy) * height) ? [x, oy] : [ox, y];
}

// fit gives the frame of a picture the aspect that the picture has.
const heard = new WeakSet();
function fit(frame) {
  for (const p of frame.querySelectorAll("img, video")) {
    const take = () => {
      const [w, h] = [p.naturalWidth || p.videoWidth, p.naturalHeight || p.videoHeight];
      if (w && h) frame.style.setProperty("aspect-ratio", w + " / " + h);
    };
    if (!heard.has(p)) for (const name of ["load", "resize"]) p.addEventListener(name, take);
    heard.add(p);
    take();
  }
}

// fitAll fits all pictures, also those that an update brings.
export function fitAll() {
  for (const frame of document.querySelectorAll(".still .frame")) fit(frame);
}

export function draw(
  figure,
  { tool = "line", most = 1, corners = tools[tool].full, cells = null, start = [], edit = false, changed = () => {} },
) {
  const frame = figure.querySelector(".frame") || figure;
  const svg = figure.querySelector("[data-marks]");
  const called = svg.getAttribute("aria-label");
  const layer = document.createElementNS(SVG, "g");
  layer.dataset.drawn = "1";
  const kind = { ...tools[tool], full: Math.min(tools[tool].full, corners || tools[tool].full) };
  const past = [];
  const future = [];
  let on = false;
  let shapes = []; // that are whole
  let going = null; // places of the one that is being drawn
  let cursor = [0.5, 0.5];
  let aim = false; // the cursor is shown: keys move it
  let held = null; // what the pointer holds: {shape, at} or a colour of the brush
  let thick = 1; // cells that the brush is wide
  let chosen = null; // the place that Delete and arrows are about: {shape, at}
  let sweep = null; // corners of a box that a polygon's first drag makes
  let zoom = 0;
  let look = [0.5, 0.5]; // where it is zoomed in
  const fingers = new Map();
  let pinch = 0;
  const stops = [];

  const size = () => {
    const b = svg.getBoundingClientRect();
    return [b.width, b.height];
  };
  const copy = () => structuredClone(shapes);
  const remember = () => {
    past.push(copy());
    future.length = 0;
  };
  const others = () => [
    ...shapes.flat(),
    ...(going || []).slice(0, -1),
    ...Array.from(svg.querySelectorAll("polygon.hiddenpart")).flatMap((p) =>
      Array.from(p.points).map((q) => [q.x / ACROSS, q.y / DOWN]),
    ),
  ];
  const place = (e) => {
    const b = svg.getBoundingClientRect();
    let at = [within((e.clientX - b.left) / b.width), within((e.clientY - b.top) / b.height)];
    const from = going && going.length > 1 ? going[going.length - 2] : null;
    if (e.shiftKey && from && tool !== "box") return level(at, from, b.width, b.height);
    return tool === "brush" ? at : snap(at, held ? [] : others(), b.width, b.height);
  };

  // what is seen
  const element = (name, attributes) => {
    const e = document.createElementNS(SVG, name);
    for (const [k, v] of Object.entries(attributes)) e.setAttribute(k, v);
    layer.append(e);
    return e;
  };
  const points = (all) => all.map(([x, y]) => (x * ACROSS).toFixed(1) + "," + (y * DOWN).toFixed(1)).join(" ");
  const box = ([[x, y], [u, v]]) => [
    [Math.min(x, u), Math.min(y, v)],
    [Math.max(x, u), Math.min(y, v)],
    [Math.max(x, u), Math.max(y, v)],
    [Math.min(x, u), Math.max(y, v)],
  ];
  const grip = ([x, y], first, is) => {
    const [w, h] = size();
    const r = is ? 7 : 5;
    element("ellipse", {
      class: is ? "grip chosen" : first ? "grip first" : "grip",
      cx: x * ACROSS,
      cy: y * DOWN,
      rx: (r * ACROSS) / (w || ACROSS),
      ry: (r * DOWN) / (h || DOWN),
    });
  };
  const paint = (s, whole) => {
    if (tool === "polygon") element(whole ? "polygon" : "polyline", { class: "drawn", points: points(s) });
    else if (tool === "box" && s.length === 2) element("polygon", { class: "drawn", points: points(box(s)) });
    else if (tool === "path" || s.length === 2) element("polyline", { class: "drawn", points: points(s) });
    s.forEach((p, i) => grip(p, !whole && i === 0, whole && chosen && shapes[chosen.shape] === s && chosen.at === i));
  };
  const show = () => {
    layer.replaceChildren();
    if (!on) return;
    if (tool === "brush") {
      const rows = shapes.length;
      shapes.forEach((row, y) =>
        row.forEach((v, x) => {
          if (v)
            element("rect", {
              class: "cell",
              x: (x * ACROSS) / row.length,
              y: (y * DOWN) / rows,
              width: ACROSS / row.length,
              height: DOWN / rows,
            });
        }),
      );
    } else {
      for (const s of shapes) paint(s, true);
      if (going) paint(sweep ? box(sweep) : going, !!sweep);
    }
    if (aim) {
      const [x, y] = [cursor[0] * ACROSS, cursor[1] * DOWN];
      element("path", { class: "aim", d: `M${x - 40} ${y}H${x + 40}M${x} ${y - 40}V${y + 40}` });
    }
  };
  const tell = (text) => {
    says.textContent = text;
  };
  const hundredths = ([x, y]) => `${Math.round(100 * x)} % across, ${Math.round(100 * y)} % down`;
  const settle = () => {
    show();
    undoButton.disabled = !past.length && !going;
    redoButton.disabled = !future.length;
    changed(copy());
  };

  // what is drawn
  const finish = () => {
    const s = going;
    going = null;
    if (s.length < kind.least) return settle();
    remember();
    if (shapes.length >= most) shapes = most === 1 ? [] : shapes.slice(1 - most);
    shapes.push(s);
    chosen = null;
    settle();
  };
  const put = (at) => {
    if (!going) going = [at];
    else going[going.length - 1] = at;
    const closes =
      tool === "polygon" &&
      going.length > kind.least &&
      going.at(-1)[0] === going[0][0] &&
      going.at(-1)[1] === going[0][1];
    const ends =
      tool === "path" &&
      going.length > kind.least &&
      going.at(-1)[0] === going.at(-2)[0] &&
      going.at(-1)[1] === going.at(-2)[1];
    if (closes || ends) {
      going.pop();
      return finish();
    }
    if (going.length >= kind.full) return finish();
    going.push(at);
    show();
    undoButton.disabled = false;
  };
  const cell = ([x, y]) => {
    const rows = shapes.length;
    const columns = rows ? shapes[0].length : 0;
    return [Math.min(columns - 1, Math.floor(x * columns)), Math.min(rows - 1, Math.floor(y * rows))];
  };
  const brush = (at) => {
    const [x, y] = cell(at);
    const wide = (thick - 1) / 2;
    let painted = false;
    for (let v = Math.max(0, y - wide); v <= Math.min(shapes.length - 1, y + wide); v++)
      for (let u = Math.max(0, x - wide); u <= Math.min(shapes[v].length - 1, x + wide); u++) {
        painted = painted || shapes[v][u] !== held.colour;
        shapes[v][u] = held.colour;
      }
    if (painted) show();
  };
  const all = (colour) => {
    remember();
    shapes = shapes.map((row) => row.map((v) => (colour === null ? 1 - v : colour)));
    settle();
  };
  const undo = () => {
    if (going && going.length > 2) going.splice(-2, 1);
    else if (going) going = null;
    else if (past.length) {
      future.push(copy());
      shapes = past.pop();
      chosen = null;
    }
    settle();
  };
  const redo = () => {
    if (!future.length) return;
    past.push(copy());
    shapes = future.pop();
    settle();
  };

  // how far it is zoomed in, and where
  const zoomed = () => {
    const z = ZOOMS[zoom];
    frame.style.setProperty("--zoom", z);
    frame.style.setProperty("--zoom-x", 100 * look[0] + "%");
    frame.style.setProperty("--zoom-y", 100 * look[1] + "%");
    outButton.disabled = zoom === 0;
    inButton.disabled = zoom === ZOOMS.length - 1;
    show();
  };
  const zoomBy = (steps, at) => {
    zoom = Math.min(ZOOMS.length - 1, Math.max(0, zoom + steps));
    if (at) look = at;
    zoomed();
  };

  // hands
  const grabbed = (at) => {
    const [w, h] = size();
    for (const [i, s] of shapes.entries())
      for (const [j, p] of s.entries())
        if (Math.hypot((p[0] - at[0]) * w, (p[1] - at[1]) * h) <= NEAR) return { shape: i, at: j };
    return null;
  };
  // onEdge is the edge that a press meets, as the place that it makes there.
  const onEdge = (at) => {
    const [w, h] = size();
    for (const [i, s] of shapes.entries())
      for (let j = tool === "polygon" ? 0 : 1; j < s.length; j++) {
        const [a, b] = [s[(j || s.length) - 1], s[j]].map(([x, y]) => [x * w, y * h]);
        const [x, y] = [at[0] * w, at[1] * h];
        const [dx, dy] = [b[0] - a[0], b[1] - a[1]];
        const t = within(((x - a[0]) * dx + (y - a[1]) * dy) / (dx * dx + dy * dy || 1));
        if (Math.hypot(x - a[0] - t * dx, y - a[1] - t * dy) <= NEAR) return { shape: i, at: j || s.length };
      }
    return null;
  };
  const takeAway = () => {
    const s = chosen && shapes[chosen.shape];
    if (!s || s.length <= kind.least) return undo();
    remember();
    s.splice(chosen.at, 1);
    chosen = null;
    settle();
  };
  const nextPlace = () => {
    const all = shapes.flatMap((s, shape) => s.map((_, at) => ({ shape, at })));
    const is = all.findIndex((p) => chosen && p.shape === chosen.shape && p.at === chosen.at);
    chosen = all[(is + 1) % (all.length || 1)] || null;
    if (chosen) cursor = shapes[chosen.shape][chosen.at];
    show();
    if (chosen) tell(`Place ${chosen.at + 1} at ${hundredths(cursor)}`);
  };
  let pressed = null; // where a drag began
  const down = (e) => {
    if (!on || e.button > 0) return;
    e.preventDefault();
    svg.focus({ preventScroll: true });
    svg.setPointerCapture(e.pointerId);
    fingers.set(e.pointerId, [e.clientX, e.clientY]);
    aim = false;
    if (fingers.size === 2) {
      going = held = pressed = sweep = null;
      pinch = spread();
      return show();
    }
    const at = place(e);
    pressed = [e.clientX, e.clientY];
    if (tool === "brush") {
      remember();
      const [x, y] = cell(at);
      held = { colour: 1 - shapes[y][x] };
      return brush(at);
    }
    held = going ? null : grabbed(at);
    if (edit && !held && !going && (held = onEdge(at)) && shapes[held.shape].length < kind.full) {
      remember();
      shapes[held.shape].splice(held.at, 0, at);
      chosen = held;
      return show();
    }
    if (edit) chosen = held;
    if (held) return remember();
    if (tool === "polygon") {
      if (!going) sweep = [at, at]; // it may become a box
      if (!going) going = [at];
      going[going.length - 1] = at;
      return show();
    }
    if (!going) put(at);
    else going[going.length - 1] = at;
    show();
  };
  const spread = () => {
    const [a, b] = fingers.values();
    return Math.hypot(a[0] - b[0], a[1] - b[1]);
  };
  const move = (e) => {
    if (!on) return;
    if (fingers.has(e.pointerId)) fingers.set(e.pointerId, [e.clientX, e.clientY]);
    if (fingers.size === 2 && pinch) {
      const ratio = spread() / pinch;
      if (ratio > 1.3 || ratio < 0.77) {
        pinch = spread();
        zoomBy(ratio > 1 ? 1 : -1, place(e));
      }
      return;
    }
    const at = place(e);
    if (held && "colour" in held) return brush(at);
    if (held) {
      shapes[held.shape][held.at] = at;
      return show();
    }
    if (!going) return;
    if (sweep) sweep[1] = at;
    else going[going.length - 1] = at;
    show();
  };
  const up = (e) => {
    fingers.delete(e.pointerId);
    if (!on || !pressed) return;
    const far = Math.hypot(e.clientX - pressed[0], e.clientY - pressed[1]);
    pressed = null;
    if (held) {
      if (chosen) cursor = shapes[chosen.shape][chosen.at];
      held = null;
      return settle();
    }
    if (!going) return;
    const at = place(e);
    const swept = sweep && far > 3 && kind.full >= 4;
    if (swept) going = box([sweep[0], at]);
    sweep = null;
    if (swept) return finish();
    if (tool === "path" && far > 3 && going.length === 2) {
      going[1] = at;
      return finish();
    }
    // A tap sets a place; what is dragged is set where it is let go.
    if (tool === "polygon" || far > 3 || going.tapped) return put(at);
    if (tool === "point") return finish();
    going.tapped = true;
  };
  const cancel = (e) => {
    fingers.delete(e.pointerId);
    held = pressed = sweep = null;
  };
  const wheel = (e) => {
    if (!on || !(e.ctrlKey || zoom)) return;
    e.preventDefault();
    if (e.ctrlKey) return zoomBy(e.deltaY < 0 ? 1 : -1, place(e));
    const [w, h] = size();
    look = [within(look[0] + e.deltaX / w), within(look[1] + e.deltaY / h)];
    zoomed();
  };
  const keys = (e) => {
    if (!on) return;
    const step = STEP * (e.shiftKey ? 5 : e.altKey ? 0.1 : 1);
    const by = { ArrowLeft: [-step, 0], ArrowRight: [step, 0], ArrowUp: [0, -step], ArrowDown: [0, step] }[e.key];
    const does = by
      ? () => {
          aim = true;
          const to = [within(cursor[0] + by[0]), within(cursor[1] + by[1])];
          cursor = to.map((v) => Math.round(v * 1000) / 1000);
          if (going) going[going.length - 1] = cursor;
          else if (chosen) {
            remember();
            shapes[chosen.shape][chosen.at] = cursor;
            settle();
          }
          if (zoom) {
            look = cursor;
            zoomed();
          }
          show();
          tell(hundredths(cursor));
        }
      : {
          Enter: () => {
            aim = true;
            if (tool === "brush") {
              remember();
              const [x, y] = cell(cursor);
              held = { colour: 1 - shapes[y][x] };
              brush(cursor);
              held = null;
              return settle();
            }
            const had = going ? going.length : 0;
            put(cursor);
            tell(going ? `Place ${had || 1} at ${hundredths(cursor)}` : "Drawn.");
          },
          c: () => {
            if ((tool !== "polygon" && tool !== "path") || !going) return;
            going.pop();
            finish();
            tell("Drawn.");
          },
          Backspace: edit ? takeAway : undo,
          Delete: edit ? takeAway : undo,
          n: edit ? nextPlace : null,
          "+": () => zoomBy(1, cursor),
          "-": () => zoomBy(-1, cursor),
          0: () => zoomBy(-ZOOMS.length, [0.5, 0.5]),
        }[e.key === " " ? "Enter" : e.key];
    const again = (e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z" ? (e.shiftKey ? redo : undo) : null;
    const leaves =
      e.key === "Escape" && going
        ? () => {
            going = null;
            settle();
          }
        : null;
    const act = again || leaves || (e.ctrlKey || e.metaKey ? null : does);
    if (!act) return;
    e.preventDefault();
    e.stopPropagation();
    act();
  };

  // its tools
  const bar = document.createElement("div");
  bar.className = "drawbar";
  bar.setAttribute("role", "toolbar");
  bar.setAttribute("aria-label", "Drawing");
  const button = (text, title, act) => {
    const b = document.createElement("button");
    b.type = "button";
    b.className = "btn btn-sm btn-outline";
    b.textContent = text;
    b.title = title;
    b.addEventListener("click", act);
    bar.append(b);
    return b;
  };
  const undoButton = button("Undo", "Ctrl Z", undo);
  const redoButton = button("Redo", "Ctrl Shift Z", redo);
  if (tool === "brush") {
    const sizeButton = button("1 cell wide", "How wide the brush is", () => {
      thick = thick === 5 ? 1 : thick + 2;
      sizeButton.textContent = thick === 1 ? "1 cell wide" : thick + " cells wide";
    });
    button("Whole frame", "Paint every cell", () => all(1));
    button("Empty", "Paint none", () => all(0));
    button("Swap", "What is painted, and what isn’t", () => all(null));
  }
  const outButton = button("−", "Zoom out (−)", () => zoomBy(-1));
  const inButton = button("+", "Zoom in (+), where you point with Ctrl and the wheel", () => zoomBy(1));
  outButton.setAttribute("aria-label", "Zoom out");
  inButton.setAttribute("aria-label", "Zoom in");
  const says = document.createElement("span");
  says.className = "quiet";
  says.setAttribute("role", "status");
  bar.append(says);

  const hear = (name, act, options) => {
    svg.addEventListener(name, act, options);
    stops.push(() => svg.removeEventListener(name, act, options));
  };
  return {
    figure,
    begin() {
      if (on) return;
      on = true;
      shapes = structuredClone(cells || start);
      chosen = null;
      past.length = future.length = 0;
      figure.classList.add("drawing");
      svg.append(layer);
      svg.setAttribute("tabindex", "0");
      svg.setAttribute("role", "application");
      svg.setAttribute(
        "aria-label",
        called +
          ". Draw here: arrow keys move, Enter sets a place" +
          (tool === "polygon" ? ", C closes" : tool === "path" ? ", C ends it" : "") +
          (edit ? ", N chooses the next place, Delete takes it away." : "."),
      );
      frame.after(bar);
      tell(
        {
          point: "Tap a place.",
          line: "Drag from end to end, or tap both.",
          box: "Drag from corner to corner, or tap both.",
          path: "Drag from end to end; or tap place by place, and the last again.",
          polygon: "Drag a box; or tap corner by corner, and the first again.",
          brush: "Paint by dragging; begin on what is painted to wipe.",
        }[tool],
      );
      hear("pointerdown", down);
      hear("pointermove", move);
      hear("pointerup", up);
      hear("pointercancel", cancel);
      hear("wheel", wheel, { passive: false });
      hear("keydown", keys);
      zoomed();
      settle();
    },
    end() {
      if (!on) return;
      on = false;
      going = held = null;
      shapes = [];
      zoom = 0;
      look = [0.5, 0.5];
      zoomed();
      for (const stop of stops.splice(0)) stop();
      layer.remove();
      bar.remove();
      figure.classList.remove("drawing");
      svg.removeAttribute("tabindex");
      svg.setAttribute("role", "img");
      svg.setAttribute("aria-label", called);
    },
    set(all) {
      remember();
      shapes = structuredClone(all);
      settle();
    },
  };
}
