// Pictures on the wall are accepted one after the other, by a key each: yes, no, later.
const all = () => Array.from(document.querySelectorAll("[data-accepts]:not(.done)"));

function onwards(from) {
  const left = all();
  const next = left.find((li) => from.compareDocumentPosition(li) & Node.DOCUMENT_POSITION_FOLLOWING) || left[0];
  if (next && next !== from) next.focus();
}

// What the server says stands where the buttons were; the picture stays until the page is fetched anew.
async function accept(li) {
  const form = li.querySelector(".verdict");
  if (li.dataset.sent) return;
  li.dataset.sent = "1";
  const status = form.querySelector("[role=status]");
  try {
    const res = await fetch(form.action, {
      method: "POST",
      body: new URLSearchParams(new FormData(form)),
      headers: { Accept: "application/json" },
    });
    const said = await res.json().catch(() => ({}));
    if (!res.ok) throw new Error(said.error || "It wasn’t accepted: try once more.");
    status.textContent = "accepted";
    for (const b of form.querySelectorAll("button, a")) b.hidden = true;
    li.classList.add("done");
  } catch (err) {
    status.textContent = err.message;
    delete li.dataset.sent;
  }
}

document.addEventListener("submit", (e) => {
  const li = e.target.closest("[data-accepts]");
  if (!li) return;
  e.preventDefault();
  onwards(li);
  accept(li);
});
document.addEventListener("click", (e) => {
  const later = e.target.closest("[data-later]");
  if (later) onwards(later.closest("[data-accepts]"));
});
document.addEventListener("keydown", (e) => {
  if (e.ctrlKey || e.metaKey || e.altKey || e.target.matches("input, textarea, select")) return;
  const first = all()[0];
  const li = e.target.closest("[data-accepts]") || (e.target === document.body && first);
  if (!li || li.classList.contains("done")) return;
  if (e.key === "y") li.querySelector(".verdict").requestSubmit();
  else if (e.key === "n") li.querySelector(".verdict a").click();
  else if (e.key === "l") onwards(li);
});
