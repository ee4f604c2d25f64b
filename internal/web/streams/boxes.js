// What the camera's analytics see lies over its picture as it comes, where that is asked for.
const AGAIN = 3000; // ms: what breaks off is asked for again after so long
const GONE = 1500; // ms: boxes of so long ago aren't shown

export function boxes(figure) {
  const button = figure.querySelector("[data-boxes]");
  if (!button || button.wired) return;
  button.wired = true;
  const frame = figure.querySelector(".frame");
  const layer = document.createElement("div");
  layer.className = "seenboxes";
  layer.hidden = true;
  frame.append(layer);
  const caption = figure.querySelector("figcaption [role=status]");
  let listens = null;
  let last = 0;

  const put = (all) => {
    last = performance.now();
    layer.replaceChildren(
      ...all.map((o) => {
        const box = document.createElement("span");
        for (const side of ["left", "top", "width", "height"]) box.style[side] = `${o[side]}%`;
        const name = document.createElement("b");
        name.textContent = o.says;
        name.className = o.left > 55 ? "toleft" : "";
        box.append(name);
        return box;
      }),
    );
  };
  const fade = () => {
    if (!listens) return;
    if (performance.now() - last > GONE) layer.replaceChildren();
    setTimeout(fade, GONE);
  };
  const end = () => {
    if (listens) listens.abort();
    listens = null;
    layer.hidden = true;
    layer.replaceChildren();
    button.setAttribute("aria-pressed", "false");
  };
  const listen = async () => {
    const mine = new AbortController();
    listens = mine;
    layer.hidden = false;
    button.setAttribute("aria-pressed", "true");
    fade();
    try {
      const res = await fetch(figure.dataset.at + "/boxes", {
        method: "POST",
        headers: { "X-CSRF-Token": figure.dataset.csrf },
        body: new URLSearchParams({ source: figure.dataset.source }),
        signal: mine.signal,
      });
      if (!res.ok) throw new Error(String(res.status));
      const reader = res.body.pipeThrough(new TextDecoderStream()).getReader();
      let text = "";
      for (;;) {
        const { value, done } = await reader.read();
        if (done) break;
        const lines = (text + value).split("\n");
        text = lines.pop();
        for (const line of lines) {
          const told = JSON.parse(line);
          if (told.trouble) {
            caption.textContent = `${figure.dataset.place}: ${told.trouble}`;
            return end();
          }
          put(told.objects);
        }
      }
    } catch {
      if (listens !== mine) return; // it was ended here
    }
    if (listens !== mine) return;
    layer.replaceChildren();
    setTimeout(() => {
      if (listens === mine && figure.isConnected && !document.hidden) listen();
      else if (listens === mine) end();
    }, AGAIN);
  };
  button.addEventListener("click", () => {
    if (listens) end();
    else listen();
  });
  addEventListener("pagehide", end);
}
