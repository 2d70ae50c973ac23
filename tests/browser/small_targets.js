// Targets that are lower or narrower than a finger needs. A link within a sentence has the sentence's own height; a tick
// or a choice is as large as its label.
(least) => {
  const small = [];
  const wanted =
    "main button, main summary, main input:not([type=hidden]), main select, main textarea, main a, main label.choice, main .tick";
  for (const element of document.querySelectorAll(wanted)) {
    if (!element.getClientRects().length) continue;
    if (element.tagName === "A" && getComputedStyle(element).display === "inline") continue;
    const label = element.matches("[type=checkbox], [type=radio]") && element.closest("label");
    const box = (label || element).getBoundingClientRect();
    if (box.height < least - 0.5 || box.width < least - 0.5) {
      const name = element.textContent.trim().slice(0, 40) || element.name;
      small.push(`${Math.round(box.width)} x ${Math.round(box.height)}: ${element.tagName} ${name}`);
    }
  }
  return small;
};
