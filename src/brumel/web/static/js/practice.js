// The table of a practice world: hands act without leaving the page, and the display shows what stands there now.
import { readAfresh } from "./afresh.js";

const band = document.querySelector(".practice-band");
const place = band?.querySelector("[data-drawn]");
const table = band?.querySelector("[data-table]");

// On a phone the table folds away above the page it is used beside; it stays as it was left, also on the next page.
const keepFold = () => {
  // biome-ignore lint/suspicious/noDocumentCookie: the server draws the next page by it, and the other way has no support yet
  document.cookie = `brumel-table=${table.open ? "open" : "closed"}; path=/practice; samesite=lax`;
};
if (table) {
  if (table.dataset.table === "as yet" && window.matchMedia("(max-width: 760px)").matches) {
    table.open = false;
    keepFold();
  }
  table.addEventListener("toggle", keepFold);
}

const draw = (html) => {
  place.innerHTML = html;
};

const act = async (form, button) => {
  const again = [...place.querySelectorAll("button")].indexOf(button);
  const answer = await fetch(form.action, {
    method: "POST",
    body: new FormData(form),
    headers: { Accept: "application/json" },
  });
  const { html, jumped } = await answer.json();
  if (!html) throw new Error("not the table");
  if (jumped) {
    readAfresh();
    return;
  }
  draw(html);
  place.querySelectorAll("button")[again]?.focus({ preventScroll: true });
};

place?.addEventListener("submit", (event) => {
  const form = event.target.closest("[data-hand]");
  if (!form) return;
  event.preventDefault();
  for (const button of place.querySelectorAll("button")) button.setAttribute("aria-disabled", "true");
  act(form, event.submitter).catch(() => form.submit());
});

// What is noted on paper stays in this window, also where the page with the signal is open again.
const NOTED = "brumel-practice-paper";
const paper = document.querySelector("[data-paper-sheet]");
if (paper) {
  paper.value = sessionStorage.getItem(NOTED) ?? "";
  paper.addEventListener("input", () => sessionStorage.setItem(NOTED, paper.value));
}
const noted = sessionStorage.getItem(NOTED);
if (band && !paper && noted && band.dataset.paper === "yes") {
  const shown = document.createElement("p");
  shown.className = "small paper";
  shown.textContent = `On your paper: ${noted}`;
  band.append(shown);
}

// What the display shows, once a second; where something happened the page is read afresh.
const LOOK_MS = 1000;
const look = async () => {
  if (document.hidden) {
    setTimeout(look, LOOK_MS);
    return;
  }
  try {
    const answer = await fetch(band.dataset.now, { headers: { Accept: "application/json" } });
    if (!answer.ok) return;
    const now = await answer.json();
    band.querySelector("[data-minutes]").textContent = now.minutes;
    const stands = band.querySelector("[data-stands]");
    if (stands && now.stands) stands.textContent = now.stands;
    if (now.news > Number(band.dataset.news)) {
      readAfresh();
      return;
    }
    for (const { probe, lines } of now.displays) {
      for (const display of band.querySelectorAll(`[data-display="${probe}"]`)) {
        const shown = display.querySelectorAll("[data-line]");
        for (const [i, [value]] of lines.entries()) if (shown[i]) shown[i].textContent = value;
      }
    }
  } catch {
    // Without the server the display stands still; the next look tells.
  }
  setTimeout(look, LOOK_MS);
};
if (band) setTimeout(look, LOOK_MS);
