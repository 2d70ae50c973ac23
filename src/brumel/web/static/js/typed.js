// Typed entry: digits go into the value's field wherever the focus is, Enter leads on, and a clock runs since the dip.
import { callOut } from "./attention.js";

const main = () =>
  document.querySelector("[data-wrong-cup]:not([hidden]) [data-main-right]") ??
  document.querySelector("[data-main], [data-main-all]");
const isField = (element) =>
  element?.matches?.("input:not([type=radio]):not([type=checkbox]), textarea, select");

for (const form of document.querySelectorAll("[data-typed]")) {
  const values = [...form.querySelectorAll("[data-value]")];
  const temperature = form.querySelector('[name="temperature_c"]');
  form.addEventListener("keydown", (event) => {
    if (event.key !== "Enter" || event.isComposing || !values.includes(event.target)) return;
    if (values.some((field) => field.value.trim())) {
      // Something is typed: Enter leads to what is still empty, and sends where nothing is.
      const next = [...values.slice(values.indexOf(event.target) + 1), temperature].find(
        (field) => field && !field.value.trim(),
      );
      if (!next) return;
      event.preventDefault();
      next.focus();
      return;
    }
    event.preventDefault();
    if (form.dataset.typed === "settled" || document.querySelector("[data-wrong-cup]:not([hidden])"))
      main()?.click();
  });
  const unit = form.querySelector("[data-entry-select]");
  unit?.addEventListener("change", () => {
    form.querySelector("[data-entry-unit]").textContent = unit.selectedOptions[0].textContent.split(",")[0];
    values[0].focus();
  });
}

// A digit typed while nothing is being written belongs to the value.
document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || isField(event.target)) return;
  if (!/^[\d.,\-−]$/.test(event.key) || document.querySelector("dialog[open]")) return;
  document.querySelector("[data-typed] [data-value]")?.focus();
});

// The clock goes on from what the server said, by this page's own steady clock.
const clock = document.querySelector("[data-clock]");
if (clock) {
  const face = clock.querySelector("[data-clock-face]");
  const words = clock.querySelector("[data-clock-words]");
  const since = performance.now();
  const next = Number(clock.dataset.next);
  const show = (seconds) =>
    `${Math.floor(seconds / 60)}:${String(Math.floor(seconds % 60)).padStart(2, "0")}`;
  // In Practice the world's own clock may run faster.
  const pace = Number(document.querySelector("[data-pace]")?.dataset.pace ?? 1);
  let isDue = Number(clock.dataset.clock) >= next;
  const tick = () => {
    const seconds = Number(clock.dataset.clock) + ((performance.now() - since) / 1000) * pace;
    face.textContent = show(seconds);
    if (!words) return;
    if (seconds >= next && !isDue) callOut();
    isDue = seconds >= next;
    words.textContent = isDue ? "type the next reading" : `the next value counts from ${show(next)}`;
    clock.classList.toggle("due", isDue);
  };
  tick();
  setInterval(tick, 250);
}
