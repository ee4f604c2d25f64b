// Copy buttons: what stands beside them goes to the clipboard. Where the browser gives no
// clipboard (plain HTTP elsewhere than on this machine) the text is selected instead.
export function watchCopy() {
  document.addEventListener("click", async (e) => {
    const button = e.target.closest(".copy");
    if (!button) return;
    e.preventDefault();
    const from = button.previousElementSibling;
    try {
      await navigator.clipboard.writeText(button.dataset.copy || from.textContent.trim());
      tell(button, "copied");
    } catch {
      if (from) getSelection().selectAllChildren(from);
      tell(button, "selected: copy it by your keys");
    }
  });
}

function tell(button, says) {
  const was = button.title;
  button.title = says;
  button.classList.add("done");
  const live = button.querySelector("span");
  live.textContent = says;
  setTimeout(() => {
    button.classList.remove("done");
    button.title = was;
    live.textContent = "";
  }, 1500);
}
