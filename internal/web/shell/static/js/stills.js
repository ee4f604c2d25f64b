// Stills are fetched again every few seconds, while somebody looks.
const EVERY = 2500; // ms

export function refreshStills() {
  setInterval(() => {
    document.querySelectorAll("img[data-still]").forEach((img) => {
      if (document.hidden || !img.complete) return;
      const next = new Image();
      const src = img.getAttribute("src").split("?")[0] + "?t=" + Date.now();
      next.onload = () => {
        if (img.isConnected) img.src = src;
      };
      next.src = src;
    });
  }, EVERY);
}
