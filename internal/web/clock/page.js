// The strip is wider than its place on a phone: it shows its middle first, and stays
// where a person scrolled it to.
const box = document.querySelector("[data-centre]");
if (box) box.scrollLeft = (box.scrollWidth - box.clientWidth) / 2;
