// The camera that is looked at moves, is heard and talked through; on its picture marks and masks are drawn.
import { fitAll } from "../js/drawing.js";
import { watch } from "./streams/moving.js";
import { markAll } from "./streams/marking.js";
import { boxes } from "./streams/boxes.js";
import { closer } from "./streams/closer.js";
import { byHand, letGoByPage } from "./streams/hand.js";
import { endTalk } from "./streams/talking.js";
import { endListening } from "./streams/listening.js";
import "./streams/accepting.js";
import "./streams/judging.js";

// Without scripts the picture's buttons would do nothing. It is said on the page's root, which no update exchanges.
document.documentElement.classList.add("scripted");

let running = null;

// What is looked at may be exchanged while the page lives on.
function look() {
  const figure = document.querySelector("figure[data-moving]");
  if (running && figure === running.figure && figure.dataset.moving === running.source) return;
  if (running) running.end();
  running = figure ? watch(figure) : null;
}
function handle() {
  for (const figure of document.querySelectorAll("figure.still.moving")) {
    closer(figure);
    boxes(figure);
    byHand(figure);
  }
}
fitAll();
markAll();
look();
handle();
addEventListener("pagehide", () => {
  if (running) running.end();
  endTalk();
  endListening();
  letGoByPage();
  running = null;
});
addEventListener("pageshow", look);
new MutationObserver(() => {
  fitAll();
  markAll();
  look();
  handle();
}).observe(document.querySelector("main") || document.body, { childList: true, subtree: true });
