// What was refused, said again beside its field: the list above names them all, a link in it leads to each.

// A page may have several fields of a name: the one of the form below the list is meant, on most pages the only one.
const fieldOf = (fault, root) => {
  const fields = [...root.querySelectorAll(`[name="${CSS.escape(fault.dataset.field)}"]`)].filter(
    (field) => field.type !== "hidden" && field.getClientRects().length > 0,
  );
  const isBelow = (field) => fault.compareDocumentPosition(field) & Node.DOCUMENT_POSITION_FOLLOWING;
  return fields.find(isBelow) ?? fields[0];
};

// A field that is changed is no longer what was refused.
const forget = (field, words) => {
  field.classList.remove("is-invalid");
  field.removeAttribute("aria-invalid");
  field.removeAttribute("aria-describedby");
  words.remove();
};

/** Mark under `root` the field of every listed fault. */
export const tieFaults = (root) => {
  for (const [i, fault] of [...root.querySelectorAll(".faults [data-field]")].entries()) {
    const field = fieldOf(fault, root);
    if (!field || field.matches("[aria-invalid]")) continue;
    const words = document.createElement("span");
    words.className = "field-fault";
    words.id = `field-fault-${i}`;
    words.textContent = fault.textContent;
    words.setAttribute("aria-hidden", "true"); // it lies within the label, and is told as the description, not in the name
    field.id ||= `refused-${i}`;
    field.classList.add("is-invalid");
    field.setAttribute("aria-invalid", "true");
    field.setAttribute("aria-describedby", words.id);
    field.after(words);
    const link = document.createElement("a");
    link.href = `#${field.id}`;
    link.textContent = fault.textContent;
    link.addEventListener("click", (event) => {
      event.preventDefault();
      field.focus();
    });
    fault.replaceChildren(link);
    field.addEventListener("input", () => forget(field, words), { once: true });
  }
};
