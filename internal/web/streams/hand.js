// The camera is turned by hand on its picture: a press looks there, a drag goes nearer to what it draws, arrows, plus
// and minus move it while they are held, the wheel zooms, a number calls a preset. It is put back when it is let go.
const KEEP = 2500; // ms: so often it is said that it is held still
const AGAIN = 400; // ms: so often a push is told while it lasts
const DRAG = 8; // px: less is a press
const NOTCH = 250; // ms: of zoom by one notch of the wheel

const ways = {
  ArrowLeft: { pan: -1 },
  ArrowRight: { pan: 1 },
  ArrowUp: { tilt: 1 },
  ArrowDown: { tilt: -1 },
  "+": { zoom: 1 },
  "=": { zoom: 1 },
  "-": { zoom: -1 },
};

let held = null; // one at a time
export const letGoByPage = () => held && held.end("back", true);

export function byHand(figure) {
  const bar = figure.querySelector(".picturebar");
  const button = bar && bar.querySelector("[data-hand]");
  if (!button || button.hears) return;
  button.hears = true;
  const frame = figure.querySelector(".frame");
  const tools = figure.querySelector(".handbar");
  const says = figure.querySelector("[data-hand-says]");
  let number = 0;
  let beats = 0;
  let pushing = null; // what is pushed, and the key or button that does
  let pushes = 0;
  let line = Promise.resolve(); // one thing after the other, as it was done
  let waits = 0;
  let drag = null;

  const tell = (text) => (says.textContent = text);
  const post = async (fields, keepalive = false) => {
    const res = await fetch(figure.dataset.at + "/hand", {
      method: "POST",
      keepalive,
      headers: { "X-CSRF-Token": figure.dataset.csrf, Accept: "application/json" },
      body: new URLSearchParams({ source: figure.dataset.source, hand: number, ...fields }),
    });
    const said = await res.json().catch(() => ({}));
    return { ok: res.ok, status: res.status, ...said };
  };
  // ask has something done after all that was asked before; what a held key says again is left out meanwhile.
  const ask = (fields, { again = false } = {}) => {
    if (again && waits) return line;
    waits++;
    line = line.then(async () => {
      try {
        if (!number) return;
        const r = await post(fields);
        if (!r.ok) tell(r.error || "It wasn’t done: the server answered " + r.status + ".");
        else if (r.says) tell(r.says);
      } catch {
        tell("This page doesn’t reach the server: the camera stops by itself.");
      } finally {
        waits--;
      }
    });
    return line;
  };
  const show = () => {
    const on = number !== 0;
    figure.classList.toggle("held", on);
    figure.toggleAttribute("data-keep", on || "moving" in figure.dataset);
    button.setAttribute("aria-pressed", String(on));
    button.hidden = on;
    tools.hidden = !on;
    if (on) {
      frame.setAttribute("tabindex", "0");
      frame.setAttribute("role", "application");
      frame.setAttribute(
        "aria-label",
        figure.dataset.place + " by hand: arrows turn it, plus and minus zoom, numbers call presets, Escape lets go.",
      );
      frame.focus({ preventScroll: true });
    } else for (const name of ["tabindex", "role", "aria-label"]) frame.removeAttribute(name);
  };
  const gone = (text) => {
    clearInterval(beats);
    clearInterval(pushes);
    number = 0;
    pushing = drag = null;
    if (held === self) held = null;
    show();
    tell(text);
  };
  const keep = async () => {
    const mine = number;
    const r = await post({ do: "keep" }).catch(() => null);
    if (number !== mine) return;
    if (!r) tell("This page doesn’t reach the server: the camera stops by itself, and is put back soon.");
    else if (!r.ok) gone(r.error || "You don’t hold it any more.");
  };
  const take = async (sure) => {
    if (held) await held.end("back");
    tell("Asking for it.");
    const r = await post(sure ? { do: "take", sure: "1" } : { do: "take" }).catch(() => ({}));
    if (r.status === 409) return offer(r);
    if (!r.ok) return tell(r.error || "It wasn’t taken: the server doesn’t answer.");
    number = r.id;
    held = self;
    beats = setInterval(keep, KEEP);
    show();
    tell("You hold it. Let go, it is sent back to " + r.says + ".");
  };
  // Somebody else turns it: who wants it all the same, says so.
  const offer = (r) => {
    tell(r.error + " ");
    const over = document.createElement("button");
    over.type = "button";
    over.className = "btn btn-sm btn-outline";
    over.textContent = r.asks;
    over.addEventListener("click", () => take(true));
    says.append(over);
  };
  const self = {
    async end(how, leaving = false) {
      if (!number) return;
      stop();
      const last = () => post({ do: how }, leaving).catch(() => null);
      if (leaving) return last();
      await line;
      const r = await last();
      if (r && !r.ok) return tell(r.error || "It wasn’t let go.");
      gone(how === "back" ? "Let go: it is sent back to where it looked." : "Let go: it stays as it looks now.");
    },
  };

  const push = (way, by) => {
    if (!number || (pushing && pushing.by === by)) return;
    clearInterval(pushes);
    pushing = { by };
    ask({ do: "move", ...way });
    pushes = setInterval(() => ask({ do: "move", ...way }, { again: true }), AGAIN);
  };
  const stop = (by) => {
    if (!pushing || (by && pushing.by !== by)) return;
    clearInterval(pushes);
    pushing = null;
    ask({ do: "stop" });
  };

  button.addEventListener("click", () => take(false));
  for (const b of tools.querySelectorAll("[data-hand-end]"))
    b.addEventListener("click", () => self.end(b.dataset.handEnd));
  for (const b of tools.querySelectorAll("[data-preset]"))
    b.addEventListener("click", () => ask({ do: "preset", preset: b.dataset.preset }));
  for (const b of tools.querySelectorAll("[data-push]")) {
    const way = ways[b.dataset.push];
    b.addEventListener("pointerdown", (e) => e.button === 0 && push(way, b));
    for (const end of ["pointerup", "pointercancel", "pointerleave", "blur"]) b.addEventListener(end, () => stop(b));
    b.addEventListener("keydown", (e) => (e.key === " " || e.key === "Enter") && !e.repeat && push(way, b));
    b.addEventListener("keyup", () => stop(b));
  }
  figure.addEventListener("keydown", (e) => {
    if (!number || e.ctrlKey || e.metaKey || e.altKey) return;
    const way = ways[e.key];
    if (e.key === "Escape") self.end("back");
    else if (way && !e.repeat) push(way, e.key);
    else if (/^[1-9]$/.test(e.key)) ask({ do: "preset", preset: e.key });
    else if (!way) return;
    e.preventDefault();
    e.stopPropagation();
  });
  figure.addEventListener("keyup", (e) => stop(e.key));
  frame.addEventListener("blur", () => stop());
  window.addEventListener("blur", () => stop());
  document.addEventListener("visibilitychange", () => document.hidden && stop());

  // place is where a pointer is on the picture, in parts of its sides, however close it is looked at.
  const place = (e) => {
    const shown = [...frame.querySelectorAll("img, video, canvas")].find((x) => !x.hidden) || frame;
    const box = shown.getBoundingClientRect();
    const part = (v, from, size) => Math.min(1, Math.max(0, (v - from) / size));
    return [part(e.clientX, box.left, box.width), part(e.clientY, box.top, box.height)];
  };
  const outline = () =>
    frame.querySelector(".handbox") ||
    frame.appendChild(Object.assign(document.createElement("div"), { className: "handbox" }));
  frame.addEventListener("pointerdown", (e) => {
    if (!number || e.button > 0) return;
    e.preventDefault();
    frame.focus({ preventScroll: true });
    frame.setPointerCapture(e.pointerId);
    drag = { from: place(e), x: e.clientX, y: e.clientY, far: false };
  });
  frame.addEventListener("pointermove", (e) => {
    if (!drag) return;
    drag.far = drag.far || Math.hypot(e.clientX - drag.x, e.clientY - drag.y) > DRAG;
    if (!drag.far) return;
    const box = frame.getBoundingClientRect();
    const px = (v, from) => v - from + "px";
    Object.assign(outline().style, {
      left: px(Math.min(e.clientX, drag.x), box.left),
      top: px(Math.min(e.clientY, drag.y), box.top),
      width: Math.abs(e.clientX - drag.x) + "px",
      height: Math.abs(e.clientY - drag.y) + "px",
    });
  });
  const drop = () => {
    drag = null;
    const box = frame.querySelector(".handbox");
    if (box) box.remove();
  };
  frame.addEventListener("pointerup", (e) => {
    if (!drag) return;
    const { from, far } = drag;
    const to = place(e);
    drop();
    if (!far) return ask({ do: "look", left: to[0], top: to[1] });
    const [x, y] = [0, 1].map((i) => [Math.min(from[i], to[i]), Math.max(from[i], to[i])]);
    tell("Going nearer, by its stills.");
    ask({ do: "zoom", left: x[0], right: x[1], top: y[0], bottom: y[1] });
  });
  frame.addEventListener("pointercancel", drop);
  let notch = 0;
  frame.addEventListener(
    "wheel",
    (e) => {
      if (!number) return;
      e.preventDefault();
      push({ zoom: e.deltaY < 0 ? 1 : -1 }, "wheel" + Math.sign(e.deltaY));
      clearTimeout(notch);
      notch = setTimeout(() => stop(), NOTCH);
    },
    { passive: false },
  );
}
