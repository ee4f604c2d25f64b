// Rows are selected by drawing over their boxes: all from the first to where the pointer is become as the first one
// becomes; those that it leaves again are as they were.
import { boxes, put } from "./selection.js";

let sweep = null;

function boxAt(el) {
  const cell = el && el.closest("td.tick");
  return cell ? cell.querySelector("input[name=pick]") : null;
}

// The row that a pointer is over counts, wherever in it the pointer is.
function rowBox(e) {
  const at = document.elementFromPoint(e.clientX, e.clientY);
  const row = at && at.closest("tr");
  return row ? row.querySelector("td.tick input[name=pick]") : null;
}

function draw(box) {
  const i = sweep.all.indexOf(box);
  if (i < 0) return;
  const [from, to] = [Math.min(sweep.start, i), Math.max(sweep.start, i)];
  sweep.moved = sweep.moved || i !== sweep.start;
  if (sweep.moved) sweep.all.forEach((b, k) => put(b, k >= from && k <= to ? sweep.on : sweep.was[k]));
}

export function watchSweep() {
  document.addEventListener("pointerdown", (e) => {
    const box = e.button === 0 && e.pointerType !== "touch" && !e.shiftKey ? boxAt(e.target) : null;
    if (!box) return;
    const all = boxes();
    sweep = { all, start: all.indexOf(box), was: all.map((b) => b.checked), on: !box.checked, moved: false };
    document.documentElement.classList.add("sweeping");
  });
  document.addEventListener("pointermove", (e) => {
    if (sweep) draw(rowBox(e));
  });
  for (const end of ["pointerup", "pointercancel"])
    document.addEventListener(end, () => {
      if (!sweep) return;
      const moved = sweep.moved;
      sweep = null;
      document.documentElement.classList.remove("sweeping");
      // What was drawn over stands: the click that ends it on a box takes nothing back.
      if (moved) {
        const stop = (e) => {
          if (boxAt(e.target)) {
            e.preventDefault();
            e.stopPropagation();
          }
        };
        document.addEventListener("click", stop, { capture: true, once: true });
        setTimeout(() => document.removeEventListener("click", stop, true));
      }
    });
}
