// A camera without a still is accepted by what is seen moving: the frame goes with the form.
// It is taken of its own picture alone.
const grabbable = (form) =>
  document.querySelector(`figure[data-moving="${form.elements.source.value}"] video:not([hidden])`);
setInterval(() => {
  for (const f of document.querySelectorAll("[data-grab]"))
    for (const b of f.querySelectorAll("button")) {
      b.disabled = !grabbable(f);
      b.title = b.disabled ? "It isn’t moving just now: what moves is accepted." : "";
    }
}, 500);
document.addEventListener("submit", async (e) => {
  const form = e.target.closest("[data-grab]");
  if (!form) return;
  e.preventDefault();
  const video = grabbable(form);
  if (!video) {
    const says = form.querySelector("[role=status]") || form.appendChild(document.createElement("span"));
    says.setAttribute("role", "status");
    says.className = "quiet";
    says.textContent = " It isn’t moving just now: accept it once it does.";
    return;
  }
  const light = form.elements.light.value;
  const canvas = document.createElement("canvas");
  canvas.width = video.videoWidth;
  canvas.height = video.videoHeight;
  canvas.getContext("2d").drawImage(video, 0, 0);
  const picture = await new Promise((done) => canvas.toBlob(done, "image/jpeg", 0.9));
  const files = new DataTransfer();
  files.items.add(new File([picture], "picture.jpg", { type: "image/jpeg" }));
  // The sheet may have been brought up to date meanwhile: a form that is gone can't be sent.
  const here = form.isConnected
    ? form
    : Array.from(document.querySelectorAll("[data-grab]")).find((f) => f.elements.light.value === light);
  if (!here) return;
  here.querySelector("[name=picture]").files = files.files;
  here.elements.shown.value = video.closest("figure").dataset.source;
  here.submit();
});
