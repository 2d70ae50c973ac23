// A sum is worked out in Python as one types; the answer and the address follow.

import { tieFaults } from "./faults.js";

const form = document.querySelector("[data-live-sum]");
let timer = 0;
let asked = 0;

const work = async () => {
  asked += 1;
  const mine = asked;
  const address = `${window.location.pathname}?${new URLSearchParams(new FormData(form))}`;
  let page;
  try {
    const answer = await fetch(address, { headers: { Accept: "text/html" } });
    page = new DOMParser().parseFromString(await answer.text(), "text/html");
  } catch {
    return; // no signal: what is shown stays, and the next key tries again
  }
  if (mine !== asked) return;
  window.history.replaceState(null, "", address);
  const place = document.querySelector('[data-refresh="answer"]');
  const news = page.querySelector('[data-refresh="answer"]');
  if (!news) return;
  for (const alert of news.querySelectorAll("[data-focus]")) alert.removeAttribute("data-focus");
  place.replaceChildren(...news.childNodes);
  tieFaults(document);
  for (const field of form.querySelectorAll(".field")) {
    const id = field.querySelector("input")?.id;
    const fresh = id && page.getElementById(id)?.closest(".field");
    if (fresh) field.className = fresh.className;
  }
};

form.addEventListener("input", () => {
  window.clearTimeout(timer);
  timer = window.setTimeout(work, 200);
});
