// A secret is shown where it was asked for, for a while, and is then gone from the page.
// Without script it is a page of its own.
const SHOWN = 30000; // ms

export function watchReveal() {
  document.addEventListener("submit", async (e) => {
    const form = e.target;
    if (!form.matches("[data-reveal]") || form.dataset.plain) return;
    e.preventDefault();
    const password = form.querySelector("[type=password]");
    let answer;
    try {
      const got = await fetch(form.action, {
        method: "POST",
        headers: { Accept: "application/json" },
        body: new URLSearchParams(new FormData(form)),
      });
      answer = await got.json();
    } catch {
      form.dataset.plain = "1"; // the server's own page says what is wrong
      form.requestSubmit();
      return;
    } finally {
      password.value = "";
    }
    show(form, answer);
  });
}

function show(form, answer) {
  form.querySelector(".revealed")?.remove();
  const box = document.createElement("p");
  box.className = answer.secret ? "revealed" : "revealed wrong";
  box.setAttribute("role", "status");
  if (answer.secret) {
    const secret = document.createElement("code");
    secret.className = "mono";
    secret.textContent = answer.secret;
    const copy = document.createElement("button");
    copy.type = "button";
    copy.className = "copy plainbtn";
    copy.title = "Copy it";
    copy.setAttribute("aria-label", "Copy the password");
    copy.innerHTML = '<i class="bi bi-copy" aria-hidden="true"></i><span role="status"></span>';
    box.append(secret, copy);
    setTimeout(() => box.remove(), SHOWN);
  } else {
    box.textContent = answer.error;
  }
  form.append(box);
}
