// How far a job has come; the page is read afresh once it has ended.
import { readAfresh } from "./afresh.js";

const LOOK_MS = 700;
const place = document.querySelector("[data-job]");
const bar = place.querySelector("[data-progress]");
const words = place.querySelector("[data-words]");

const look = async () => {
  try {
    const answer = await fetch(place.dataset.job, { headers: { Accept: "application/json" } });
    const { state, done, of } = await answer.json();
    if (!["waiting", "running"].includes(state)) {
      readAfresh();
      return;
    }
    if (of) {
      bar.max = of;
      bar.value = done;
      words.textContent = `${done} of ${of}`;
    }
  } catch {
    // Without a signal the bar stands still; the next look tells.
  }
  setTimeout(look, LOOK_MS);
};
setTimeout(look, LOOK_MS);
