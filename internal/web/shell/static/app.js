// The little script the pages have: hear the server, swap what changed, keys.
(function () {
  "use strict";

  // refresh reads this page again and swaps the parts that are marked as live.
  // What the person is typing in or has focused is left alone.
  let busy = false, again = false, held = false, waits = false;
  // Nothing is swapped between press and release: the button pressed must be the one released.
  document.addEventListener("pointerdown", function () { held = true; }, true);
  ["pointerup", "pointercancel"].forEach(function (name) {
    window.addEventListener(name, function () {
      held = false;
      if (waits) { waits = false; setTimeout(refresh, 50); } // after the click that follows
    }, true);
  });
  async function refresh() {
    if (busy) { again = true; return; }
    if (held) { waits = true; return; }
    busy = true;
    try {
      const answer = await fetch(location.href, { headers: { "Accept": "text/html", "X-Live": "1" }, redirect: "manual" });
      if (!answer.ok) { if (answer.type === "opaqueredirect") location.reload(); return; }
      const fresh = new DOMParser().parseFromString(await answer.text(), "text/html");
      if (held) { waits = true; return; }
      document.querySelectorAll("[data-live]").forEach(function (old) {
        const now = fresh.getElementById(old.id);
        if (!now || now.innerHTML === old.dataset.was) return;
        if (Array.from(old.querySelectorAll("input,select,textarea")).some(begun)) return;
        if (old.contains(document.activeElement) && document.activeElement.matches("input:not([type=checkbox]),textarea,select")) return;
        const focus = focusKey(old);
        old.dataset.was = now.innerHTML;
        keepStills(old, now);
        const left = scrolled(old);
        old.innerHTML = now.innerHTML;
        refocus(old, focus);
        centre(left);
      });
      markCursor();
      // A run that ended is shown for a while; then its line goes.
      if (document.querySelector(".run.over")) setTimeout(refresh, 16000);
    } catch (e) {
      // the live dot tells that the server isn't heard
    } finally {
      busy = false;
      if (again) { again = false; refresh(); }
    }
  }
  // A strip that is wider than its place shows its middle first, and stays where a person
  // scrolled it to.
  function scrolled(within) { const box = within.querySelector("[data-centre]"); return box ? box.scrollLeft : -1; }
  function centre(left) {
    const box = document.querySelector("[data-centre]");
    if (box) box.scrollLeft = left >= 0 ? left : (box.scrollWidth - box.clientWidth) / 2;
  }
  document.addEventListener("DOMContentLoaded", function () { centre(-1); });

  // begun says whether a person typed or chose something that isn't sent yet. The boxes
  // that select rows are kept elsewhere and outlive a swap.
  function begun(x) {
    if (x.type === "hidden" || x.name === "pick" || x.matches("[data-pick-all]")) return false;
    if (x.type === "checkbox") return x.checked !== x.defaultChecked;
    if (x.matches("select")) return x.selectedIndex !== Math.max(0, Array.from(x.options).findIndex(function (o) { return o.defaultSelected; }));
    return x.value !== x.defaultValue;
  }
  // A still that is shown keeps its address, so that a swap doesn't blink.
  function keepStills(old, now) {
    old.querySelectorAll("img[data-still]").forEach(function (img) {
      const to = now.querySelector("img[data-still]");
      if (to && to.getAttribute("src") === img.getAttribute("src").split("?")[0]) to.setAttribute("src", img.getAttribute("src"));
    });
  }
  function focusKey(within) {
    const el = document.activeElement;
    if (!el || !within.contains(el)) return null;
    return { id: el.id, href: el.getAttribute("href"), label: el.getAttribute("aria-label") };
  }
  function refocus(within, key) {
    if (!key) return;
    let el = key.id && document.getElementById(key.id);
    if (!el && key.label) el = Array.from(within.querySelectorAll("[aria-label]")).find(function (x) { return x.getAttribute("aria-label") === key.label; });
    if (!el && key.href) el = Array.from(within.querySelectorAll("a")).find(function (x) { return x.getAttribute("href") === key.href; });
    if (el) el.focus({ preventScroll: true });
  }
  setInterval(function () {
    document.querySelectorAll("img[data-still]").forEach(function (img) {
      if (document.hidden || !img.complete) return;
      const next = new Image();
      const src = img.getAttribute("src").split("?")[0] + "?t=" + Date.now();
      next.onload = function () { if (img.isConnected) img.src = src; };
      next.src = src;
    });
  }, 2500);

  document.addEventListener("alpine:init", function () {
    window.Alpine.data("harbour", function () {
      return {
        heard: "in touch",
        dotClass: "",
        picks: [],
        all: false,
        init() {
          const site = this.$el.dataset.site;
          const source = new EventSource("/sites/" + site + "/live");
          let timer = null;
          const soon = function () { clearTimeout(timer); timer = setTimeout(refresh, 120); };
          source.addEventListener("hello", () => { this.heard = "in touch"; this.dotClass = ""; soon(); });
          source.addEventListener("changed", soon);
          source.onerror = () => { this.heard = "not heard"; this.dotClass = "lost"; };
          window.addEventListener("pagehide", function () { source.close(); });
        },
        // How many a button is about: the picked ones, else all that match.
        size(total) { return this.all || !this.picks.length ? total : this.picks.length; },
        label(verb, total) {
          const n = this.size(total);
          return verb + " " + (n === 1 ? "1 camera" : n.toLocaleString("en") + " cameras");
        },
        chosen() { return this.picks.length > 0; },
        count(total) { return this.size(total).toLocaleString("en") + " selected"; },
        more(total) { return !this.all && this.picks.length > 0 && this.picks.length < total; },
        takeAll() { this.all = true; },
        allFlag() { return this.all ? "1" : ""; },
        clear() { this.picks = []; this.all = false; }
      };
    });
  });

  // Selecting: the head's box takes all rows shown; with Shift a range is taken.
  function boxes() { return Array.from(document.querySelectorAll("table.rows tbody input[name=pick]")); }
  function put(box, on) { if (box.checked !== on) { box.checked = on; box.dispatchEvent(new Event("change", { bubbles: true })); } }
  let last = -1;
  function range(box) {
    const all = boxes(), i = all.indexOf(box);
    if (last >= 0 && i >= 0) all.slice(Math.min(last, i), Math.max(last, i) + 1).forEach(function (b) { put(b, box.checked); });
  }
  document.addEventListener("click", function (e) {
    if (!e.target.matches("input[type=checkbox]")) return;
    if (e.target.matches("[data-pick-all]")) {
      // By the rows, not by the box itself: a live update may have exchanged it.
      const on = !boxes().every(function (b) { return b.checked; });
      boxes().forEach(function (b) { put(b, on); });
      e.target.checked = on;
      return;
    }
    if (e.target.name !== "pick") return;
    if (e.shiftKey) range(e.target);
    last = boxes().indexOf(e.target);
  });

  // Keys: see the dialog that ? opens.
  let cursor = -1, jump = false;
  function rows() { return Array.from(document.querySelectorAll("table.rows tbody tr")).filter(function (r) { return r.querySelector(".place a"); }); }
  function markCursor() { rows().forEach(function (r, i) { r.classList.toggle("cursor", i === cursor); }); }
  function move(by) {
    const all = rows();
    if (!all.length) return;
    cursor = Math.max(0, Math.min(all.length - 1, cursor + by));
    markCursor();
    all[cursor].scrollIntoView({ block: "nearest" });
  }
  function press(selector) {
    const el = Array.from(document.querySelectorAll(selector)).find(function (x) { return !x.disabled && x.offsetParent !== null; });
    if (el) el.click();
  }
  // The cursor stays on its row when a sheet is opened or closed.
  function keep() { const row = rows()[cursor]; if (row && row.dataset.row) sessionStorage.setItem("cursor", location.pathname + " " + row.dataset.row); }
  function restore() {
    const open = new URLSearchParams(location.search).get("sheet");
    const kept = (sessionStorage.getItem("cursor") || "").split(" ");
    const id = open || (kept[0] === location.pathname ? kept[1] : "");
    cursor = id ? rows().findIndex(function (r) { return r.dataset.row === id; }) : -1;
    markCursor();
  }
  window.addEventListener("pagehide", keep);
  document.addEventListener("DOMContentLoaded", restore);
  const places = { "1": "find", "2": "sign-in", "3": "clock", "4": "streams", "5": "channels", "6": "recording", "7": "analytics", "8": "routes", "9": "prove", "0": "handover", b: "board", l: "log", s: "settings" };
  document.addEventListener("keydown", function (e) {
    if (e.ctrlKey || e.metaKey || e.altKey) return;
    const keys = document.getElementById("keys");
    if (keys && keys.open) { if (e.key === "?") { keys.close(); e.preventDefault(); } return; }
    const typing = e.target.matches("input:not([type=checkbox]),textarea,select");
    if (e.key === "Escape") {
      if (typing) { e.target.blur(); return; }
      const close = document.getElementById("sheet-close");
      if (close) close.click();
      return;
    }
    if (typing) return;
    const site = document.body.dataset.site;
    if (jump && site) {
      jump = false;
      if (places[e.key]) location.href = "/sites/" + site + "/" + places[e.key];
      return;
    }
    const row = rows()[cursor];
    switch (e.key) {
      case "/": { const f = document.getElementById("filter"); if (f) { f.focus(); f.select(); e.preventDefault(); } break; }
      case "?": if (keys) { keys.showModal(); e.preventDefault(); } break;
      case "j": move(1); break;
      case "k": move(-1); break;
      case "g": jump = true; break;
      case "x": case "X": {
        const box = row && row.querySelector("input[name=pick]");
        if (!box) break;
        put(box, !box.checked);
        if (e.shiftKey) range(box);
        last = boxes().indexOf(box);
        break;
      }
      case "a": { const all = document.querySelector("[data-pick-all]"); if (all) all.click(); break; }
      case "r": press("main [data-key=r], .selbar button.btn-primary"); break;
      case "c": press(document.querySelector(".sheet [data-key=c]") ? ".sheet [data-key=c]" : "[data-key=c]"); break;
      case "[": press("#sheet-prev"); break;
      case "]": press("#sheet-next"); break;
      case "Enter": if (row && !e.target.matches("a,button,summary,input")) row.querySelector(".place a").click(); break;
    }
  });
})();

// A form marked data-picks takes the rows that are selected, whichever form their boxes
// belong to.
document.addEventListener("submit", function (e) {
  "use strict";
  const form = e.target;
  if (!form.matches("[data-picks]")) return;
  form.querySelectorAll("input.copied").forEach(function (x) { x.remove(); });
  document.querySelectorAll("table.rows tbody input[name=pick]:checked").forEach(function (box) {
    const copy = document.createElement("input");
    copy.type = "hidden"; copy.name = "pick"; copy.value = box.value; copy.className = "copied";
    form.appendChild(copy);
  });
}, true);

// What restarts, moves or deletes something asks once more; without script it is done
// at once, as its button says.
(function () {
  "use strict";
  document.addEventListener("submit", function (e) {
    const form = e.target, box = document.getElementById("confirm");
    if (!form.dataset.confirm || !box || form.dataset.sure) return;
    e.preventDefault();
    box.querySelector("p").textContent = form.dataset.confirm;
    const yes = box.querySelector(".btn-primary");
    yes.textContent = form.dataset.do || "Do it";
    yes.onclick = function () {
      form.dataset.sure = "1";
      box.close();
      if (!form.isConnected) { document.body.appendChild(form); }
      form.requestSubmit();
    };
    box.showModal();
  });
})();
