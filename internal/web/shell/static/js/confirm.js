// What restarts, moves or deletes something asks once more; without script it is done at
// once, as its button says. A form asks for all its buttons, or a button for itself. Focus
// stands on the harmless one.
export function watchConfirm() {
  document.addEventListener("submit", (e) => {
    const form = e.target;
    const box = document.getElementById("confirm");
    const asks = e.submitter && e.submitter.dataset.confirm ? e.submitter : form;
    if (!asks.dataset.confirm || !box || form.dataset.sure) return;
    e.preventDefault();
    box.querySelector("p").textContent = asks.dataset.confirm;
    const yes = box.querySelector(".btn-primary");
    yes.textContent = asks.dataset.do || "Do it";
    yes.onclick = () => {
      form.dataset.sure = "1";
      box.close();
      if (!form.isConnected) document.body.appendChild(form);
      form.requestSubmit(asks === form ? undefined : asks);
    };
    box.showModal();
    box.querySelector("form button").focus();
  });
}
