// One tick says of every run below that the meter's settings were looked at; a form takes it along as it is sent.
const tick = document.querySelector("[data-settings-tick]");
for (const field of document.querySelectorAll("[data-settings-of-form]")) {
  field.form.addEventListener("submit", () => {
    field.value = tick?.checked ? "yes" : "";
  });
}
