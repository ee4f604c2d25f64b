// A source is picked up in the tray, by drag, tap or key, and put on a free channel. While it is held
// the gauges show what it would take.
const form = document.getElementById("put");
const holding = document.querySelector(".holding");
let held = null;

function items() {
  return Array.from(document.querySelectorAll(".trayitem[data-source]"));
}

function hold(item) {
  held = item;
  const refused = item && item.dataset.refused;
  if (form) form.elements.source.value = item ? item.dataset.source : "";
  items().forEach((x) => x.classList.toggle("held", x === item));
  document.querySelectorAll(".puthere").forEach((b) => {
    b.hidden = !item || !!refused;
    if (item) b.setAttribute("aria-label", `Put it here: ${item.dataset.place} on channel ${b.value}`);
  });
  if (holding)
    holding.textContent = !item
      ? ""
      : refused
        ? `${item.dataset.place} can't be put here: ${refused}.`
        : `${item.dataset.place} is held: put it on a free channel. Esc lets it go.`;
  show(item);
}

// show draws how the limits would be used with a source, as the server reckoned it.
function show(item) {
  const then = item && item.dataset.then ? item.dataset.then.split(" ") : [];
  document.querySelectorAll("[data-gauge]").forEach((g, i) => {
    const [used, most] = then[i] ? then[i].split("/").map(Number) : [Number(g.dataset.used), Number(g.dataset.most)];
    const from = Math.min(100, (100 * Number(g.dataset.used)) / Number(g.dataset.most));
    const to = Math.min(100, (100 * used) / most);
    const ghost = g.querySelector(".ghost");
    ghost.setAttribute("x", from);
    ghost.setAttribute("width", Math.max(0, to - from));
    g.classList.toggle("over", used > most);
  });
}

function arm() {
  items().forEach((x) => {
    const button = x.querySelector(".pickup");
    if (button) button.hidden = false;
  });
  if (held) {
    const again = items().find((x) => x.dataset.source === held.dataset.source);
    hold(again || null);
  }
}

if (form) {
  document.addEventListener("click", (e) => {
    const button = e.target.closest(".pickup");
    if (!button) return;
    const item = button.closest(".trayitem");
    hold(item === held ? null : item);
    const first = document.querySelector(".puthere:not([hidden])");
    if (first && held) first.focus();
  });
  document.addEventListener("keydown", (e) => {
    if (e.key !== "Escape" || !held) return;
    hold(null);
    e.stopPropagation();
  });
  document.addEventListener("pointerover", (e) => {
    if (held) return;
    show(e.target.closest(".trayitem[data-source]"));
  });
  document.addEventListener("dragstart", (e) => {
    const item = e.target.closest && e.target.closest(".trayitem[data-source]");
    if (!item) return;
    e.dataTransfer.setData("text/plain", item.dataset.source);
    e.dataTransfer.effectAllowed = "move";
    setTimeout(() => hold(item), 0); // what is dragged is drawn as it was
  });
  document.addEventListener("dragend", () => {
    const why = held && held.dataset.refused ? holding.textContent : "";
    hold(null);
    if (holding && why) holding.textContent = why; // what kept it off is still to be read
  });
  document.addEventListener("dragover", (e) => {
    const slot = held && e.target.closest(".slot");
    if (slot && slot.querySelector(".puthere:not([hidden])")) e.preventDefault();
  });
  document.addEventListener("drop", (e) => {
    const slot = held && e.target.closest(".slot");
    const button = slot && slot.querySelector(".puthere:not([hidden])");
    if (!button) return;
    e.preventDefault();
    form.requestSubmit(button);
  });
  document.addEventListener("harbour:updated", arm);
  arm();
}
