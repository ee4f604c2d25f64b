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

// show draws what a source would take beside what is used.
function show(item) {
  document.querySelectorAll("[data-gauge]").forEach((g) => {
    const ghost = g.querySelector(".ghost");
    const most = Number(g.dataset.most);
    const more = !item ? 0 : g.dataset.gauge.startsWith("Mbit") ? Number(item.dataset.kbps) / 1000 : 1;
    const from = Math.min(100, (100 * Number(g.dataset.used)) / most);
    ghost.setAttribute("x", from);
    ghost.setAttribute("width", Math.min(100 - from, (100 * more) / most));
    g.classList.toggle("over", Number(g.dataset.used) + more > most);
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
  document.addEventListener("dragend", () => hold(null));
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
