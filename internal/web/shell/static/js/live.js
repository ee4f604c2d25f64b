// Live updates. The server says what changed; the parts of the page that are about it are
// fetched, each alone, and morphed into place: nothing is taken from under a hand.
import { busy, whenFree } from "./pointer.js";
import { markCursor } from "./keys.js";
import { say } from "./harbour.js";

// A run that ended is shown for this long; then its line goes. In ms.
const RUN_SHOWN = 16000;
// What changes within this time is fetched together. In ms.
const JOIN = 120;
// However much changes, a page rests for this many times what its last update took: work that goes on for
// minutes leaves most of the machine to whoever watches it.
const REST = 3;
const LONGEST_REST = 2000; // in ms

const wanted = new Set(); // names of parts
const shown = new Map(); // by id: what was put there last
let timer = null;
let fetching = false;
let rested = 0; // when the next update may be, by performance.now()
let fading = null; // the timer of a run's line that goes

export function hear(site) {
  const source = new EventSource(`/sites/${site}/live?since=${document.body.dataset.asOf}`);
  source.addEventListener("hello", () => say("in touch", ""));
  source.addEventListener("changed", (e) => changed(e.data));
  // The server can't tell what was missed: all is read again.
  source.addEventListener("all", () => want(parts()));
  source.onerror = () => say("not heard", "lost");
  window.addEventListener("pagehide", () => source.close());
  fadeRuns();
}

function parts() {
  return Array.from(document.querySelectorAll("[data-part]"));
}

// changed wants the parts that are about a topic and a device ("mark:17"; 0: of several).
function changed(text) {
  const [topic, id] = text.split(":");
  want(
    parts().filter((part) => {
      const only = part.dataset.liveId;
      return part.dataset.live.split(" ").includes(topic) && (!only || id === "0" || only === id);
    }),
  );
}

function want(all) {
  if (all.length === 0) return;
  all.forEach((part) => wanted.add(part.dataset.part));
  soon();
}

// soon fetches what is wanted after a while. However much is told meanwhile, it isn't put
// off by that.
function soon() {
  if (timer === null) timer = setTimeout(update, Math.max(JOIN, rested - performance.now()));
}

async function update() {
  timer = null;
  if (fetching || wanted.size === 0) return;
  if (busy()) return whenFree(update);
  fetching = true;
  const began = performance.now();
  const names = Array.from(wanted);
  wanted.clear();
  try {
    const answer = await fetch(location.href, {
      headers: { Accept: "text/html", "X-Parts": names.join(",") },
      redirect: "manual",
    });
    if (answer.type === "opaqueredirect") return location.reload();
    if (!answer.ok || answer.status === 204) return; // nothing more of this site is this person's to see
    const text = await answer.text();
    if (busy()) {
      names.forEach((name) => wanted.add(name));
      return whenFree(update);
    }
    put(text);
  } catch {
    // the live dot tells that the server isn't heard
  } finally {
    fetching = false;
    const ended = performance.now();
    rested = ended + Math.min(REST * (ended - began), LONGEST_REST);
    if (wanted.size > 0 && !busy()) soon();
  }
}

function put(text) {
  const fresh = new DOMParser().parseFromString(text, "text/html");
  for (const to of Array.from(fresh.body.children)) {
    const from = document.getElementById(to.id);
    if (!from) continue;
    if (shown.get(to.id) === to.outerHTML) continue;
    shown.set(to.id, to.outerHTML);
    window.Alpine.morph(from, to.outerHTML, {
      key: (el) => el.id || (el.dataset && el.dataset.row) || undefined,
      updating,
    });
  }
  markCursor();
  document.dispatchEvent(new CustomEvent("harbour:updated"));
  fadeRuns();
}

// updating leaves alone what a person has in hand, and what only the page knows.
function updating(from, to, _childrenOnly, skip) {
  if (from.nodeType !== Node.ELEMENT_NODE) return;
  if (from.hasAttribute("data-keep") || inHand(from) || refused(from)) return skip();
  if (from.matches("details")) to.toggleAttribute("open", from.open);
  if (from.matches("dialog[open]")) return skip();
  // One that didn't come isn't asked for at every update.
  if (from.missing && from.missing === to.getAttribute("src")) {
    to.setAttribute("src", from.getAttribute("src"));
    to.setAttribute("alt", from.alt);
  }
  // A still that is shown keeps its address, so that an update doesn't blink.
  if (from.matches("img[data-still], img[data-wall]") && sameStill(from, to))
    to.setAttribute("src", from.getAttribute("src"));
}

// refused says whether a form came back with what is wrong in it: what was typed there, and what is said of it, stays
// until it is sent again.
function refused(el) {
  return el.matches("form") && !!el.querySelector(".wrong");
}

function sameStill(from, to) {
  return (
    to.matches("img") && (from.getAttribute("src") || "").split("?")[0] === (to.getAttribute("src") || "").split("?")[0]
  );
}

// inHand says whether a person types in a field, or chose something that isn't sent yet.
// The boxes that select rows are kept elsewhere and outlive an update.
function inHand(el) {
  if (
    !el.matches("input,textarea,select") ||
    el.type === "hidden" ||
    el.name === "pick" ||
    el.matches("[data-pick-all]")
  )
    return false;
  if (el === document.activeElement && el.type !== "checkbox") return true;
  if (el.type === "checkbox" || el.type === "radio") return el.checked !== el.defaultChecked;
  if (el.matches("select")) {
    const first = Array.from(el.options).findIndex((o) => o.defaultSelected);
    return el.selectedIndex !== Math.max(0, first);
  }
  return el.value !== el.defaultValue;
}

function fadeRuns() {
  if (fading || !document.querySelector(".run.over")) return;
  fading = setTimeout(() => {
    fading = null;
    want(parts().filter((p) => p.dataset.part === "runs"));
  }, RUN_SHOWN);
}
