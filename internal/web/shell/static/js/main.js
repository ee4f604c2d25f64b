// What every page of a site does: it hears the server, selects rows, obeys keys.
import { registerHarbour } from "./harbour.js";
import { watchPointer } from "./pointer.js";
import { hear } from "./live.js";
import { watchSelection } from "./selection.js";
import { watchSweep } from "./sweep.js";
import { watchKeys, restoreCursor } from "./keys.js";
import { watchConfirm } from "./confirm.js";
import { watchCopy } from "./copy.js";
import { watchReveal } from "./reveal.js";
import { watchInPlace } from "./inplace.js";
import { refreshStills } from "./stills.js";

// Components must be there before Alpine starts, which is the script after this one.
document.addEventListener("alpine:init", registerHarbour);

watchCopy();
watchReveal();
watchInPlace();

const site = document.body.dataset.site;
if (site !== "0") {
  watchPointer();
  watchSelection();
  watchSweep();
  watchKeys(site);
  watchConfirm();
  refreshStills();
  restoreCursor();
  // Focus goes into a sheet that opens, where it hasn't a place of its own yet.
  const sheet = document.querySelector("aside.sheet[tabindex]");
  if (sheet && (!document.activeElement || document.activeElement === document.body))
    sheet.focus({ preventScroll: true });
  // On a phone the stages run off to the side: the one that is shown is in sight.
  const here = document.querySelector(".passage .on");
  if (here) here.scrollIntoView({ block: "nearest", inline: "center" });
  // Alpine morphs: it must have started before the first update comes.
  document.addEventListener("alpine:initialized", () => hear(site));
}
