// What restarts, moves or deletes something asks once more; without script it is done at
// once, as its button says.
export function watchConfirm() {
  document.addEventListener("submit", (e) => {
    const form = e.target;
    const box = document.getElementById("confirm");
    if (!form.dataset.confirm || !box || form.dataset.sure) return;
    e.preventDefault();
    box.querySelector("p").textContent = form.dataset.confirm;
    const yes = box.querySelector(".btn-primary");
    yes.textContent = form.dataset.do || "Do it";
    yes.onclick = () => {
      form.dataset.sure = "1";
      box.close();
      if (!form.isConnected) document.body.appendChild(form);
      form.requestSubmit();
    };
    box.showModal();
  });
}
