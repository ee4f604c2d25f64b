// The picture is looked at closer than it comes, to see whether it is in focus, and by itself on the whole screen.
// Closer than twice, the still of the record stream is shown where the camera offers one: it has more to see.
const TIMES = [1, 1.5, 2, 3, 4, 6, 8];
const within = (v) => Math.min(1, Math.max(0, v));

export function closer(figure) {
  const bar = figure.querySelector(".picturebar");
  if (!bar || bar.closes) return;
  bar.closes = true;
  const frame = figure.querySelector(".frame");
  const less = bar.querySelector("[data-closer='-1']");
  const more = bar.querySelector("[data-closer='1']");
  const says = bar.querySelector("[data-times]");
  let step = 0;
  let look = [0.5, 0.5];

  const still = (on) => {
    const had = frame.querySelector("img.whole");
    if (had && !on) had.remove();
    if (had || !on || !figure.dataset.whole) return;
    const img = new Image();
    img.className = "whole";
    img.alt = "Still of the record stream of " + figure.dataset.place;
    img.setAttribute("data-still", "");
    img.src = figure.dataset.whole;
    frame.querySelector("svg.marks").before(img);
  };
  const show = () => {
    const times = TIMES[step];
    frame.style.setProperty("--zoom", times);
    frame.style.setProperty("--zoom-x", 100 * look[0] + "%");
    frame.style.setProperty("--zoom-y", 100 * look[1] + "%");
    says.textContent = times + " ×";
    less.disabled = step === 0;
    more.disabled = step === TIMES.length - 1;
    still(times >= 2);
    figure.classList.toggle("close", step > 0);
    figure.toggleAttribute("data-keep", step > 0 || "moving" in figure.dataset);
  };
  const by = (steps) => {
    step = Math.min(TIMES.length - 1, Math.max(0, step + steps));
    if (!step) look = [0.5, 0.5];
    show();
  };
  less.addEventListener("click", () => by(-1));
  more.addEventListener("click", () => by(1));

  // What is close is moved under the window by dragging, while nobody turns the camera or draws on it.
  frame.addEventListener("dragstart", (e) => e.preventDefault()); // a picture isn't carried off
  const free = () => step > 0 && !figure.matches(".held, .drawing");
  let from = null;
  frame.addEventListener("pointerdown", (e) => {
    if (!free() || e.button > 0) return;
    from = [e.clientX, e.clientY, ...look];
    frame.setPointerCapture(e.pointerId);
  });
  const drag = (e) => {
    if (!from) return;
    const box = frame.getBoundingClientRect();
    const far = TIMES[step] - 1;
    look = [
      within(from[2] - (e.clientX - from[0]) / (box.width * far)),
      within(from[3] - (e.clientY - from[1]) / (box.height * far)),
    ];
    show();
  };
  frame.addEventListener("pointermove", drag);
  frame.addEventListener("pointerup", (e) => {
    drag(e);
    from = null;
  });
  frame.addEventListener("pointercancel", () => (from = null));
  frame.addEventListener(
    "wheel",
    (e) => {
      if (!e.ctrlKey || figure.matches(".held, .drawing")) return;
      e.preventDefault();
      by(e.deltaY < 0 ? 1 : -1);
    },
    { passive: false },
  );

  const full = bar.querySelector("[data-full]");
  if (!figure.requestFullscreen) full.hidden = true;
  full.addEventListener("click", () => {
    if (document.fullscreenElement) document.exitFullscreen();
    else figure.requestFullscreen().catch(() => {});
  });
  document.addEventListener("fullscreenchange", () => {
    if (figure.isConnected)
      full.textContent = document.fullscreenElement === figure ? "Leave full screen" : "Full screen";
  });
}
