// A timer of a step: a press starts it, it counts down, and calls when it is over. It belongs to the page; nothing is recorded.
import { callOut } from "./attention.js";

const shown = (seconds) => `${Math.floor(seconds / 60)}:${String(Math.floor(seconds % 60)).padStart(2, "0")}`;

for (const button of document.querySelectorAll("[data-timer]")) {
  const length = Number(button.dataset.timer);
  const words = button.querySelector("[data-timer-words]");
  const idle = words.textContent;
  let ticking;
  button.addEventListener("click", () => {
    if (ticking) {
      clearInterval(ticking);
      ticking = undefined;
      words.textContent = idle;
      return;
    }
    const end = performance.now() + length * 1000;
    const tick = () => {
      const left = (end - performance.now()) / 1000;
      if (left > 0) {
        words.textContent = `${shown(Math.ceil(left))} to go; press to stop`;
        return;
      }
      clearInterval(ticking);
      ticking = undefined;
      words.textContent = "over; press to begin it anew";
      callOut();
    };
    ticking = setInterval(tick, 250);
    tick();
  });
}
