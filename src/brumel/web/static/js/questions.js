// What is odd, each with a field for why it may be so. The lines follow the numbers on the page: one that has answered itself
// goes, a new one comes, and a reason that was begun stays with its own question.
const said = new Map();

const fill = (line, { code, sentence, remedy }, isFirst) => {
  line.dataset.question = code;
  line.querySelector("[data-sentence]").textContent = sentence;
  if (remedy) line.querySelector("[data-remedy]").textContent = remedy;
  const field = line.querySelector("input");
  field.name = `why:${code}`;
  field.value = said.get(code) ?? "";
  line.querySelector("[data-as-above]").hidden = isFirst;
  return line;
};

const fresh = () => document.getElementById("question-line").content.firstElementChild.cloneNode(true);

// Only a new question is read aloud; moving figures in a standing one are not, and the field one is writing in stays.
export const keepTo = (place, questions) => {
  const lines = new Map([...place.children].map((line) => [line.dataset.question, line]));
  const isNew = questions.some((q) => !lines.has(q.code));
  place.setAttribute("aria-live", isNew ? "assertive" : "off");
  const wanted = new Set(questions.map((q) => q.code));
  for (const [code, line] of lines)
    if (!wanted.has(code) && (!line.contains(document.activeElement) || !line.querySelector("input").value))
      line.remove();
  for (const [number, q] of questions.entries()) {
    const line = lines.get(q.code);
    if (!line) place.append(fill(fresh(), q, number === 0));
    else if (line.querySelector("[data-sentence]").textContent !== q.sentence)
      line.querySelector("[data-sentence]").textContent = q.sentence;
  }
};

// What stands in the fields of a place, by the question's code; what is empty is left out.
export const answersIn = (place) =>
  Object.fromEntries(
    [...place.querySelectorAll("[data-question]")]
      .map((line) => [line.dataset.question, line.querySelector("input").value.trim()])
      .filter(([, answer]) => answer),
  );

// Reasons that were kept with a form, by the names of their fields.
export const recall = (fields) => {
  for (const [name, value] of Object.entries(fields))
    if (name.startsWith("why:")) said.set(name.slice(4), value);
};

// The line of a question, as the page has it.
export const lineOf = (question, isFirst) => fill(fresh(), question, isFirst);

document.addEventListener("input", (event) => {
  const line = event.target.closest?.("[data-question]");
  if (line) said.set(line.dataset.question, event.target.value);
});

document.addEventListener("click", (event) => {
  const line = event.target.closest?.("[data-as-above]")?.closest("[data-question]");
  const above = line?.previousElementSibling?.querySelector("input");
  if (!above) return;
  const field = line.querySelector("input");
  field.value = above.value;
  field.dispatchEvent(new Event("input", { bubbles: true }));
  field.focus();
});

// A value that is typed anew takes its questions along; what is odd about the new one is asked when it is recorded.
document.addEventListener("input", (event) => {
  const quantity = event.target.dataset?.quantity;
  if (!quantity) return;
  for (const line of event.target.form.querySelectorAll(`[data-question^="${quantity}:"]`)) line.remove();
});

document.querySelector("[data-questions] input")?.focus();
