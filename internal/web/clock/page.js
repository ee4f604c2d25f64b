// The strip is wider than its place on a phone or beside a sheet: it shows the mark of the
// clock whose sheet is open, else its middle, and stays where a person scrolled it to.
const box = document.querySelector("[data-centre]");
if (box) {
  const sheet = new URLSearchParams(location.search).get("sheet");
  const mark = [...box.querySelectorAll("a")].find((a) => {
    const of = new URL(a.getAttribute("href"), location.href).searchParams.get("sheet");
    return sheet && of === sheet;
  });
  box.scrollLeft = (box.scrollWidth - box.clientWidth) / 2;
  if (mark) {
    const m = mark.getBoundingClientRect();
    const b = box.getBoundingClientRect();
    box.scrollLeft += m.left + m.width / 2 - b.left - b.width / 2;
  }
}
