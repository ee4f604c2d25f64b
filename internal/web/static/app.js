// The little script the pages have: hear the server, swap what changed, keys.
(function () {
  "use strict";

  // refresh reads this page again and swaps the parts that are marked as live.
  // What the person is typing in or has focused is left alone.
  let busy = false, again = false;
  async function refresh() {
    if (busy) { again = true; return; }
    busy = true;
    try {
      const answer = await fetch(location.href, { headers: { "Accept": "text/html" }, redirect: "manual" });
      if (!answer.ok) { if (answer.type === "opaqueredirect") location.reload(); return; }
      const fresh = new DOMParser().parseFromString(await answer.text(), "text/html");
      document.querySelectorAll("[data-live]").forEach(function (old) {
        const now = fresh.getElementById(old.id);
        if (!now || now.innerHTML === old.dataset.was) return;
        if (old.contains(document.activeElement) && document.activeElement.matches("input:not([type=checkbox]),textarea,select")) return;
        const focus = focusKey(old);
        old.dataset.was = now.innerHTML;
        keepStills(old, now);
        old.innerHTML = now.innerHTML;
        refocus(old, focus);
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
        label(verb, all) {
          const n = this.picks.length || all;
          return verb + " " + (n === 1 ? "1 camera" : n + " cameras");
        }
      };
    });
  });

  // Keys: / filter, j k move, Enter opens, x selects, Esc closes, g then a digit jumps.
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
  const stages = ["handover", "find", "sign-in", "clock", "streams", "channels", "recording", "analytics", "routes", "prove"];
  document.addEventListener("keydown", function (e) {
    if (e.ctrlKey || e.metaKey || e.altKey) return;
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
      const to = e.key === "b" ? "board" : stages[Number(e.key)];
      if (to) location.href = "/sites/" + site + "/" + to;
      return;
    }
    const row = rows()[cursor];
    switch (e.key) {
      case "/": { const f = document.getElementById("filter"); if (f) { f.focus(); e.preventDefault(); } break; }
      case "j": move(1); break;
      case "k": move(-1); break;
      case "g": jump = true; break;
      case "x": { const box = row && row.querySelector("input[type=checkbox]"); if (box) box.click(); break; }
      case "Enter": if (row && !e.target.matches("a,button,summary,input")) row.querySelector(".place a").click(); break;
    }
  });
})();
