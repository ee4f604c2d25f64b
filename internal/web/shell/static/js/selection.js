// Selecting rows: the head's box takes all rows shown; with Shift a range is taken.
let last = -1;

export function boxes() {
  return Array.from(document.querySelectorAll("table.rows tbody input[name=pick]"));
}

export function put(box, on) {
  if (box.checked === on) return;
  box.checked = on;
  box.dispatchEvent(new Event("change", { bubbles: true }));
}

// take selects a row as a click or a key did: with range all from the last one.
export function take(box, range) {
  const all = boxes();
  const i = all.indexOf(box);
  if (range && last >= 0 && i >= 0) {
    all.slice(Math.min(last, i), Math.max(last, i) + 1).forEach((b) => put(b, box.checked));
  }
  last = i;
}

export function watchSelection() {
  document.addEventListener("click", (e) => {
    if (!e.target.matches("input[type=checkbox]")) return;
    if (e.target.matches("[data-pick-all]")) {
      // By the rows, not by the box itself.
      const on = !boxes().every((b) => b.checked);
      boxes().forEach((b) => put(b, on));
      e.target.checked = on;
      return;
    }
    if (e.target.name === "pick") take(e.target, e.shiftKey);
  });
  // A form marked data-picks takes the rows that are selected, whichever form their boxes
  // belong to.
  document.addEventListener(
    "submit",
    (e) => {
      const form = e.target;
      if (!form.matches("[data-picks]")) return;
      form.querySelectorAll("input.copied").forEach((x) => x.remove());
      boxes()
        .filter((box) => box.checked)
        .forEach((box) => {
          const copy = document.createElement("input");
          Object.assign(copy, { type: "hidden", name: "pick", value: box.value, className: "copied" });
          form.appendChild(copy);
        });
    },
    true,
  );
}
