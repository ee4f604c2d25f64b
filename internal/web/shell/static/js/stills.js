// Stills are fetched again every few seconds, while somebody looks.
const EVERY = 2500; // ms
// On a wall one still after the other is fetched again, of those in sight, each at most so often.
const TURN = 400; // ms
const REST = 5000; // ms
// What stands where a picture doesn't come.
const NONE = new URL("../nopicture.svg", import.meta.url).pathname;
const UNSEEN = ": it didn't come";

export function refreshStills() {
  document.addEventListener("error", (e) => e.target instanceof HTMLImageElement && none(e.target), true);
  document.addEventListener("load", (e) => e.target instanceof HTMLImageElement && came(e.target), true);
  document.querySelectorAll("img").forEach((img) => img.complete && img.naturalWidth === 0 && none(img)); // before this script came
  setInterval(() => {
    if (!document.hidden) document.querySelectorAll("img[data-still]").forEach(again);
  }, EVERY);
  setInterval(() => {
    if (document.hidden) return;
    const due = [...document.querySelectorAll("img[data-wall]")].filter((img) => inSight(img) && img.complete);
    due.sort((a, b) => (a.fetched || 0) - (b.fetched || 0));
    const next = due[0];
    if (!next || Date.now() - (next.fetched || 0) < REST) return;
    if (next.fetched) again(next);
    next.fetched = Date.now(); // the first was just loaded with the page
  }, TURN);
}

function inSight(img) {
  const box = img.getBoundingClientRect();
  return box.bottom > 0 && box.top < innerHeight;
}

// none shows that there is no picture; its words say whose it would be.
function none(img) {
  const src = img.getAttribute("src");
  if (!src || src === NONE) return;
  img.missing = src;
  img.src = NONE;
  if (!img.alt.endsWith(UNSEEN)) img.alt += UNSEEN;
}

function came(img) {
  if (img.getAttribute("src") === NONE) return;
  img.missing = undefined;
  if (img.alt.endsWith(UNSEEN)) img.alt = img.alt.slice(0, -UNSEEN.length);
}

function again(img) {
  if (!img.complete) return;
  const next = new Image();
  const shown = img.getAttribute("src");
  const src = (shown === NONE ? img.missing : shown).split("?")[0] + "?t=" + Date.now();
  next.onload = () => {
    if (img.isConnected) img.src = src;
  };
  next.src = src;
}
