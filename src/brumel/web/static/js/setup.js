// "Same as last time" is said only while it is so.
const same = document.querySelector("[data-same]");
document.querySelector("[data-choices]")?.addEventListener("change", () => {
  if (same) same.hidden = true;
});
