// The sheet of a site: every probe's line follows the readings, and the main button says how many have settled.
import { keepTo } from "./questions.js";

const main = document.querySelector("[data-main-all]");
const words = main?.textContent.trim();

const show = (value, digits) =>
  value === null || value === undefined ? "–" : value.toFixed(digits).replace("-", "−");

// What cannot be read wants no reason; everything else that is odd has a field of its own.
const ask = (suspicions) => {
  const place = document.querySelector("[data-problems]");
  if (!place) return;
  const problems = suspicions.filter((s) => !s.remedy).map((s) => s.sentence);
  if (problems.join() !== [...place.querySelectorAll("b")].map((b) => b.textContent).join())
    place.replaceChildren(
      ...problems.map((sentence) => {
        const line = document.createElement("p");
        line.className = "suspicion";
        const words = document.createElement("b");
        words.textContent = sentence;
        line.append(document.getElementById("care-mark").content.cloneNode(true), words);
        return line;
      }),
    );
  keepTo(
    place.parentElement.querySelector("[data-questions]"),
    suspicions.filter((s) => s.remedy),
  );
};

document.addEventListener("brumel:reading", (event) => {
  const lines = event.detail.lines ?? [];
  if (event.detail.suspicions) ask(event.detail.suspicions);
  for (const line of lines) {
    // What is kept is what this page has shown, not what comes while the key goes down.
    const shown = document.querySelector(`[data-dip="${line.probe}"]`);
    if (shown && line.seq !== null) shown.value = `${shown.value.split("@")[0]}@${line.seq}`;
    const row = document.querySelector(`[data-line="${line.probe}"]`);
    if (!row || !line.state) continue;
    row.querySelector("[data-line-value]").textContent = show(line.value, Number(row.dataset.digits));
    const most = line.most_to_go ? `, up to ${line.most_to_go} s` : "";
    const wait = line.to_go ? `, ${Math.ceil(line.to_go)} s` : most;
    row.querySelector("[data-line-state]").textContent = (line.odd ? "flagged, " : "") + line.state + wait;
    row.querySelector("[data-line-mark]").className = `state-mark state-${line.state}`;
  }
  for (const value of event.detail.follows ?? []) {
    const place = document.querySelector(`[data-follows="${value.quantity}"]`);
    if (place) place.textContent = show(value.value, Number(place.dataset.digits));
  }
  if (!main) return;
  const open = lines.filter((line) => line.state);
  const ready = open.filter((line) => line.state === "settled").length;
  main.setAttribute("aria-disabled", String(ready === 0));
  main.textContent = ready === open.length ? words : `${words}: ${ready} of ${open.length}`;
});
