// A form that is refused keeps what was typed, passwords too: it is sent from the page, and what is
// wrong with it is said there. No secret comes back from the server for that. Without script the
// server's page says it.
export function watchInPlace() {
  document.addEventListener("submit", async (e) => {
    const form = e.target;
    if (!form.matches("[data-inplace]") || form.dataset.plain) return;
    e.preventDefault();
    if (form.dataset.sending) return;
    form.dataset.sending = "1";
    try {
      const got = await fetch(form.action, { method: "POST", body: new URLSearchParams(new FormData(form)) });
      if (got.redirected) return location.assign(got.url);
      const page = new DOMParser().parseFromString(await got.text(), "text/html");
      const says = page.querySelector(".flash");
      if (!says) throw new Error("no word of what is wrong");
      form.querySelector(".flash")?.remove();
      form.querySelector("h1").after(document.importNode(says, true));
      window.scrollTo(0, 0);
    } catch {
      form.dataset.plain = "1"; // the server's own page says what is wrong
      form.requestSubmit();
    } finally {
      delete form.dataset.sending;
    }
  });
}
