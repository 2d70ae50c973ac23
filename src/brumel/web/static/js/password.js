// Passwords: shown while wanted, and judged by the server while a new one is typed. Nothing of it is kept.
const PAUSE_MS = 400;

const offerToShow = (form, fields) => {
  const label = document.createElement("label");
  label.className = "choice";
  const tick = document.createElement("input");
  tick.type = "checkbox";
  const words = document.createElement("span");
  words.textContent = "show what I type";
  label.append(tick, words);
  tick.addEventListener("change", () => {
    for (const field of fields) field.type = tick.checked ? "text" : "password";
  });
  form.addEventListener("submit", () => {
    for (const field of fields) field.type = "password";
  });
  fields.at(-1).closest("label").after(label);
};

const judgeWhileTyped = (field, form) => {
  const line = document.createElement("p");
  line.className = "small";
  line.setAttribute("role", "status");
  const meter = document.createElement("meter");
  meter.max = 4;
  meter.low = 2;
  meter.high = 3;
  meter.optimum = 4;
  meter.setAttribute("aria-label", "How hard it is to guess");
  const words = document.createElement("span");
  line.append(meter, " ", words);
  line.hidden = true;
  field.closest("label").after(line);
  let pause;
  let newest = 0;
  const judge = async () => {
    const mine = ++newest;
    line.hidden = !field.value;
    if (!field.value) return;
    const body = new URLSearchParams({
      csrf_token: form.querySelector("[name=csrf_token]").value,
      password: field.value,
      of: `${field.dataset.of} ${form.querySelector("[name=username]")?.value ?? ""}`,
    });
    const answer = await fetch(field.dataset.judged, { method: "POST", body }).catch(() => undefined);
    if (!answer?.ok || mine !== newest) return;
    const judged = await answer.json();
    meter.value = judged.score;
    words.textContent = judged.words;
  };
  field.addEventListener("input", () => {
    clearTimeout(pause);
    pause = setTimeout(judge, PAUSE_MS);
  });
};

for (const form of document.querySelectorAll("form")) {
  const fields = [...form.querySelectorAll("input[type=password]")];
  if (!fields.length) continue;
  offerToShow(form, fields);
  for (const field of fields) if (field.dataset.judged) judgeWhileTyped(field, form);
}
