// Nothing is exchanged while a pointer is down: the button that is pressed must be the one
// that is released. A native drag ends the pointer's own events as it begins, so it is
// watched by itself.
let down = false;
let dragging = false;
const waiting = new Set();

export function busy() {
  return down || dragging;
}

// whenFree calls f once no pointer is down any more, after the click that may follow.
export function whenFree(f) {
  waiting.add(f);
}

function freed() {
  if (busy() || waiting.size === 0) return;
  const all = Array.from(waiting);
  waiting.clear();
  setTimeout(() => all.forEach((f) => f()), 50);
}

export function watchPointer() {
  document.addEventListener("pointerdown", () => (down = true), true);
  for (const name of ["pointerup", "pointercancel"]) {
    window.addEventListener(name, () => ((down = false), freed()), true);
  }
  window.addEventListener("dragstart", () => (dragging = true), true);
  for (const name of ["dragend", "drop"]) {
    window.addEventListener(name, () => ((dragging = false), freed()), true);
  }
}
