// What is shown is printed.
document.addEventListener("click", (e) => {
  if (e.target.closest("[data-print]")) window.print();
});
