// Texts of drawn views that cannot be read: one lies on another, or leaves its drawing. The room a box has above and
// below its letters is taken off.
() => {
  const found = [];
  for (const svg of document.querySelectorAll("svg")) {
    const frame = svg.getBoundingClientRect();
    // What is clipped away is not read: on a phone the staff shows its marks alone.
    if (!frame.width || !frame.height || getComputedStyle(svg).clipPath !== "none") continue;
    const name = svg.getAttribute("class");
    const boxes = [...svg.querySelectorAll("text")]
      .filter((text) => text.textContent.trim() && text.getClientRects().length)
      .map((text) => {
        const box = text.getBoundingClientRect();
        const room = box.height * 0.18;
        const words = text.textContent.trim().replace(/\s+/g, " ");
        return { words, left: box.left + 0.5, right: box.right - 0.5, top: box.top + room, bottom: box.bottom - room };
      });
    boxes.forEach((a, i) => {
      const isOutside =
        a.left < frame.left - 1 || a.right > frame.right + 1 || a.top < frame.top - 2 || a.bottom > frame.bottom + 2;
      if (isOutside) found.push(`${name}: "${a.words}" leaves its drawing`);
      for (const b of boxes.slice(i + 1)) {
        const wide = Math.min(a.right, b.right) - Math.max(a.left, b.left);
        const high = Math.min(a.bottom, b.bottom) - Math.max(a.top, b.top);
        if (wide > 0 && high > 0)
          found.push(`${name}: "${a.words}" over "${b.words}" (${wide.toFixed(0)} x ${high.toFixed(0)})`);
      }
    });
  }
  return found;
};
