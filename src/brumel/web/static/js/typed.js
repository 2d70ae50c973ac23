// Typed entry: Enter on an empty field accepts what has settled, and otherwise waits; nothing moves the focus away.
const main = () => document.querySelector("[data-main], [data-main-all]");

for (const form of document.querySelectorAll("[data-typed]")) {
  const values = [...form.querySelectorAll("[data-value]")];
  form.addEventListener("keydown", (event) => {
    if (event.key !== "Enter" || event.isComposing || !values.includes(event.target)) return;
    if (values.some((field) => field.value.trim())) return;
    event.preventDefault();
    if (form.dataset.typed === "settled") main()?.click();
  });
}
