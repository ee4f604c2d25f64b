// Keys: see the dialog that ? opens.
import { boxes, put, take } from "./selection.js";

const places = {
  1: "find",
  2: "sign-in",
  3: "clock",
  4: "streams",
  5: "channels",
  6: "recording",
  7: "analytics",
  8: "routes",
  9: "prove",
  0: "handover",
  b: "board",
  l: "log",
  s: "settings",
};

let cursor = -1;
let jump = false;

function rows() {
  return Array.from(document.querySelectorAll("table.rows tbody tr")).filter((r) => r.querySelector(".place a"));
}

// markCursor shows on which row the keys stand.
export function markCursor() {
  rows().forEach((r, i) => r.classList.toggle("cursor", i === cursor));
}

function move(by) {
  const all = rows();
  if (!all.length) return;
  cursor = Math.max(0, Math.min(all.length - 1, cursor + by));
  markCursor();
  all[cursor].scrollIntoView({ block: "nearest" });
}

function press(selector) {
  const el = Array.from(document.querySelectorAll(selector)).find((x) => !x.disabled && x.offsetParent !== null);
  if (el) el.click();
}

// The cursor stays on its row when a sheet is opened or closed.
function keepCursor() {
  const row = rows()[cursor];
  if (row && row.dataset.row) sessionStorage.setItem("cursor", location.pathname + " " + row.dataset.row);
}

export function restoreCursor() {
  const open = new URLSearchParams(location.search).get("sheet");
  const kept = (sessionStorage.getItem("cursor") || "").split(" ");
  const id = open || (kept[0] === location.pathname ? kept[1] : "");
  cursor = id ? rows().findIndex((r) => r.dataset.row === id) : -1;
  markCursor();
  window.addEventListener("pagehide", keepCursor);
}

function onRow(e, row) {
  const box = row && row.querySelector("input[name=pick]");
  if (!box) return;
  put(box, !box.checked);
  take(box, e.shiftKey);
}

function focusFilter(e) {
  const f = document.getElementById("filter");
  if (!f) return;
  f.focus();
  f.select();
  e.preventDefault();
}

export function watchKeys(site) {
  document.addEventListener("keydown", (e) => {
    if (e.ctrlKey || e.metaKey || e.altKey) return;
    const keys = document.getElementById("keys");
    if (keys && keys.open) {
      if (e.key === "?") {
        keys.close();
        e.preventDefault();
      }
      return;
    }
    const typing = e.target.matches("input:not([type=checkbox]),textarea,select");
    if (e.key === "Escape") {
      if (typing) e.target.blur();
      else press("#preview-close, #sheet-close");
      return;
    }
    if (typing) return;
    if (jump) {
      jump = false;
      if (places[e.key]) location.href = "/sites/" + site + "/" + places[e.key];
      return;
    }
    const row = rows()[cursor];
    switch (e.key) {
      case "/":
        return focusFilter(e);
      case "?":
        if (keys) {
          keys.showModal();
          e.preventDefault();
        }
        return;
      case "j":
        return move(1);
      case "k":
        return move(-1);
      case "g":
        jump = true;
        return;
      case "x":
      case "X":
        return onRow(e, row);
      case "a":
        return press("[data-pick-all]");
      case "r":
        return press("main [data-key=r], .selbar button.btn-primary");
      case "c":
        return press(document.querySelector(".sheet [data-key=c]") ? ".sheet [data-key=c]" : "[data-key=c]");
      case "[":
        return press("#sheet-prev");
      case "]":
        return press("#sheet-next");
      case "Enter":
        if (row && !e.target.matches("a,button,summary,input")) row.querySelector(".place a").click();
    }
  });
}
