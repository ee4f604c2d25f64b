// The week is painted half hour by half hour; what a plan makes is reckoned by the server, again
// with every change, and shown beside it before anything is kept.
const WAIT = 250; // ms: changes within this time are reckoned together
const X = 44;
const Y = 22;
const W = 12.6;
const H = 30;

const form = document.getElementById("plan");
const week = form && form.querySelector("svg.week");
if (week) start();

function start() {
  const cells = Array.from({ length: 7 }, () => []);
  week.querySelectorAll("rect.half").forEach((r) => {
    cells[+r.dataset.day][+r.dataset.half] = r;
  });
  const sel = week.querySelector("rect.sel");
  const says = document.getElementById("week-says");
  let cursor = { day: 0, half: 0 };
  let from = null;
  let copied = null;
  let timer = 0;

  const modeOf = (r) => +Array.from(r.classList).find((c) => /^m\d$/.test(c))[1];
  const names = () => Array.from(form.querySelectorAll(".hoursname")).map((x) => x.value.trim());
  const brush = () => +(form.querySelector("input[name=brush]:checked") || { value: 0 }).value;
  const time = (half) => String(Math.floor(half / 2)).padStart(2, "0") + (half % 2 ? ":30" : ":00");
  const span = () => {
    const a = from || cursor;
    return {
      days: [Math.min(a.day, cursor.day), Math.max(a.day, cursor.day)],
      halves: [Math.min(a.half, cursor.half), Math.max(a.half, cursor.half)],
    };
  };

  function show() {
    const { days, halves } = span();
    sel.removeAttribute("hidden");
    sel.setAttribute("x", X + W * halves[0] - 1);
    sel.setAttribute("y", Y + H * days[0] - 1);
    sel.setAttribute("width", W * (halves[1] - halves[0] + 1) + 1);
    sel.setAttribute("height", H * (days[1] - days[0] + 1) - 2);
    const day = (d) => form.querySelector(`label[for=day-${d}]`).textContent;
    const on = days[0] === days[1] ? day(days[0]) : `${day(days[0])} to ${day(days[1])}`;
    says.textContent = `${on} ${time(halves[0])}–${time(halves[1] + 1)}: ${names()[modeOf(cells[cursor.day][cursor.half])]}`;
  }

  function set(day, half, mode) {
    cells[day][half].setAttribute("class", "half m" + mode);
  }

  function dayText(day) {
    const all = names();
    const parts = [];
    for (let a = 0; a < 48;) {
      let b = a;
      while (b < 48 && modeOf(cells[day][b]) === modeOf(cells[day][a])) b++;
      const name = all[modeOf(cells[day][a])];
      if (a === 0 && b === 48) return name;
      parts.push(`${name} ${time(a)}-${time(b)}`);
      a = b;
    }
    return parts.join(", ");
  }

  function told() {
    const runs = week.querySelector(".runs");
    runs.replaceChildren();
    for (let d = 0; d < 7; d++) {
      form.elements["d" + d].value = dayText(d);
      for (let h = 0; h < 48; h++) {
        const m = modeOf(cells[d][h]);
        if (h > 0 && modeOf(cells[d][h - 1]) === m) continue;
        const t = document.createElementNS("http://www.w3.org/2000/svg", "text");
        t.setAttribute("x", X + W * h + 3);
        t.setAttribute("y", Y + H * d + 18);
        t.setAttribute("class", "m" + m);
        t.textContent = m + 1;
        runs.append(t);
      }
    }
    reckon();
  }

  function paint(mode) {
    const { days, halves } = span();
    for (let d = days[0]; d <= days[1]; d++) for (let h = halves[0]; h <= halves[1]; h++) set(d, h, mode);
    told();
  }

  function at(e) {
    const box = week.getBoundingClientRect();
    const scale = 660 / box.width;
    const half = Math.floor(((e.clientX - box.left) * scale - X) / W);
    const day = Math.floor(((e.clientY - box.top) * scale - Y) / H);
    return { day: Math.min(6, Math.max(0, day)), half: Math.min(47, Math.max(0, half)) };
  }

  week.addEventListener("pointerdown", (e) => {
    if (e.button !== 0 || e.pointerType === "touch") return;
    week.setPointerCapture(e.pointerId);
    cursor = at(e);
    from = cursor;
    show();
  });
  week.addEventListener("pointermove", (e) => {
    if (!from || !week.hasPointerCapture(e.pointerId)) return;
    cursor = at(e);
    show();
  });
  week.addEventListener("pointerup", (e) => {
    if (!from || !week.hasPointerCapture(e.pointerId)) return;
    cursor = at(e);
    paint(brush());
    show();
    from = null;
  });
  week.addEventListener("pointercancel", () => {
    from = null;
  });
  // A finger scrolls; it taps the first hour, then the last.
  week.addEventListener("click", (e) => {
    if (e.pointerType !== "touch") return;
    cursor = at(e);
    if (from) {
      paint(brush());
      show();
      from = null;
      return;
    }
    from = cursor;
    show();
    says.textContent += ". Now tap the last hour.";
  });

  const MOVES = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0] };
  week.addEventListener("keydown", (e) => {
    if (e.ctrlKey || e.metaKey || e.altKey) return;
    const move = MOVES[e.key];
    if (move) {
      if (e.shiftKey) from = from || cursor;
      else from = null;
      cursor = {
        day: Math.min(6, Math.max(0, cursor.day + move[0])),
        half: Math.min(47, Math.max(0, cursor.half + move[1])),
      };
      show();
    } else if (/^[1-4]$/.test(e.key) && +e.key <= names().length) {
      paint(+e.key - 1);
      show();
    } else if (e.key === " ") {
      paint(brush());
      show();
    } else if (e.key === "c") {
      copied = cells[cursor.day].map(modeOf);
      says.textContent = "The day is copied: V puts it on another.";
    } else if (e.key === "v" && copied) {
      const { days } = span();
      for (let d = days[0]; d <= days[1]; d++) copied.forEach((m, h) => set(d, h, m));
      told();
      show();
    } else {
      return;
    }
    e.preventDefault();
    e.stopPropagation();
  });

  // A name is typed anew: the hours that were called so follow it.
  form.querySelectorAll(".hoursname").forEach((field) => field.addEventListener("input", told));
  // A slider moves the number that it stands beside, before what it makes is reckoned.
  form.querySelectorAll(".slide").forEach((x) => (x.hidden = false));
  form.addEventListener(
    "input",
    (e) => {
      if (e.target.classList.contains("slide")) form.elements[e.target.dataset.for].value = e.target.value;
      const slide = form.querySelector(`.slide[data-for="${e.target.name}"]`);
      if (slide) slide.value = e.target.value;
    },
    true,
  );
  form.addEventListener("input", (e) => {
    if (e.target.name !== "brush" && e.target.name !== "pick") reckon();
  });
  // What is typed of the week is drawn once the server read it.
  form.querySelectorAll(".typedday input").forEach((field) => field.addEventListener("change", () => reckon(true)));
  form.querySelectorAll(".nojs").forEach((x) => {
    x.hidden = true;
  });

  function address() {
    const url = new URL(form.dataset.page, location.href);
    new FormData(form).forEach((v, k) => {
      if (!["_csrf", "back", "brush", "pick", "all"].includes(k) && !(k === "q" && v === ""))
        url.searchParams.append(k, v);
    });
    // What it makes is reckoned for those that are ticked; where none is, for all.
    document.querySelectorAll("input[name=pick]:checked").forEach((x) => url.searchParams.append("pick", x.value));
    const recorder = new URLSearchParams(location.search).get("recorder");
    if (recorder) url.searchParams.set("recorder", recorder);
    return url;
  }

  // What was painted or typed and isn't kept yet isn't left unasked.
  let unkept = false;
  form.addEventListener("submit", () => {
    unkept = false;
  });
  addEventListener("beforeunload", (e) => {
    if (unkept) e.preventDefault();
  });
  document.addEventListener("change", (e) => {
    if (e.target.name === "pick" && unkept) reckon();
  });

  function reckon(draw) {
    unkept = true;
    clearTimeout(timer);
    timer = setTimeout(async () => {
      const url = address();
      const answer = await fetch(url, { headers: { Accept: "text/html", "X-Parts": "main" }, redirect: "manual" });
      if (!answer.ok) return;
      const page = new DOMParser().parseFromString(await answer.text(), "text/html");
      if (url.href !== address().href) return; // it was changed again meanwhile
      history.replaceState(history.state, "", url);
      form.elements.back.value = url.pathname + url.search;
      for (const id of ["days", "outcome"]) {
        const to = page.getElementById(id);
        if (to) document.getElementById(id).replaceChildren(...to.childNodes);
      }
      wrong(page.querySelector("#plan > .wrong"));
      if (draw) redraw(page);
    }, WAIT);
  }

  function wrong(says) {
    const old = form.querySelector(":scope > .wrong");
    if (old) old.remove();
    if (says) form.querySelector(".weekbox").before(says);
  }

  function redraw(page) {
    page.querySelectorAll("rect.half").forEach((r) => set(+r.dataset.day, +r.dataset.half, modeOf(r)));
    week
      .querySelector(".runs")
      .replaceChildren(...Array.from(page.querySelectorAll(".runs text")).map((t) => document.importNode(t, true)));
  }
}
