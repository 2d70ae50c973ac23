// Single keys for everything that says so (data-key), the list behind "?", and small comforts for forms.

import { tieFaults } from "./faults.js";

const typing = (element) =>
  element?.matches?.("input:not([type=radio]):not([type=checkbox]), textarea, select");
const visible = (element) => element.getClientRects().length > 0;

const keyed = () => [...document.querySelectorAll("[data-key]")].filter(visible);

const nameOf = (element) => {
  const copy = element.cloneNode(true);
  for (const key of copy.querySelectorAll("kbd")) key.remove();
  return copy.textContent.trim().replace(/\s+/g, " ");
};

const showKeys = () => {
  const list = document.getElementById("keys-list");
  list.replaceChildren(
    ...keyed().flatMap((element) => {
      const term = document.createElement("dt");
      const key = document.createElement("kbd");
      key.textContent = element.dataset.key.toUpperCase().replace("ENTER", "Enter");
      term.append(key);
      const words = document.createElement("dd");
      words.textContent = nameOf(element);
      return [term, words];
    }),
  );
  document.getElementById("keys").showModal();
};

// While a run, a sheet or a form is open a digit belongs to the entry: it leads to no other place, wherever the focus is.
// A page says so itself (data-entry), or something was typed on it that is not sent yet.
const isEntering = () =>
  Boolean(document.querySelector("[data-entry], main input[data-first]")) ||
  [...document.querySelectorAll("main input, main textarea")].some(
    (field) => !["hidden", "checkbox", "radio"].includes(field.type) && field.value !== field.defaultValue,
  );

// No value begins with a letter, so a letter in a value's field that is still empty is a key of the page.
const isFree = (event) =>
  !typing(event.target) ||
  (event.target.matches("[data-value]") && !event.target.value && /^[a-z?]$/i.test(event.key));

document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || event.isComposing) return;
  if (document.querySelector("dialog[open]") || !isFree(event)) return;
  // Enter on a link, button or summary does what that element does.
  if (event.key === "Enter" && event.target.closest?.("a[href], button, summary, input")) return;
  const wanted = event.key.length === 1 ? event.key.toLowerCase() : event.key;
  if (/^\d$/.test(wanted) && isEntering()) return;
  const found = keyed().find((element) => element.dataset.key === wanted);
  if (!found || event.repeat) return;
  event.preventDefault();
  found.focus();
  found.click();
});

document.querySelector("[data-keys-open]")?.addEventListener("click", showKeys);
for (const select of document.querySelectorAll("[data-submit-on-change]")) {
  select.addEventListener("change", () => select.form.requestSubmit());
}
tieFaults(document);
// A page opens at its top: the focus goes to the first entry, or to what was refused, without scrolling there.
(
  document.querySelector("input[data-first]") ??
  document.querySelector("[data-focus]") ??
  document.querySelector("[data-first]")
)?.focus({ preventScroll: true });
for (const usual of document.querySelectorAll("[data-reason]")) {
  usual.addEventListener("click", () => {
    const field = usual.form.querySelector('[name="reason"]');
    field.value = [usual.dataset.reason, field.value.trim()].filter(Boolean).join(": ");
    usual.form.requestSubmit();
  });
}
document.querySelector("[data-all-good]")?.addEventListener("click", () => {
  for (const input of document.querySelectorAll('input[type="radio"][value="good"]')) input.checked = true;
});

// A second press while the first is on its way is ignored; the server would recognise it all the same.
document.addEventListener("submit", (event) => {
  if (event.target.dataset.sent && event.target.method === "post") event.preventDefault();
  event.target.dataset.sent = "yes";
});
window.addEventListener("pageshow", () => {
  for (const form of document.forms) delete form.dataset.sent;
});
