// The theme is set before the page is drawn: as the person chose, else as the system.
(function () {
  "use strict";
  const dark = window.matchMedia("(prefers-color-scheme: dark)");
  function chosen() {
    try {
      return localStorage.getItem("theme") || "system";
    } catch (e) {
      return "system";
    }
  }
  function set() {
    const c = chosen();
    document.documentElement.setAttribute("data-bs-theme", c === "system" ? (dark.matches ? "dark" : "light") : c);
    document.querySelectorAll("[data-theme]").forEach(function (b) {
      b.setAttribute("aria-pressed", String(b.dataset.theme === c));
    });
  }
  set();
  dark.addEventListener("change", set);
  document.addEventListener("DOMContentLoaded", set);
  document.addEventListener("click", function (e) {
    const b = e.target.closest && e.target.closest("[data-theme]");
    if (!b) return;
    try {
      localStorage.setItem("theme", b.dataset.theme);
    } catch (err) {
      /* it lasts for this page */
    }
    set();
  });
})();
