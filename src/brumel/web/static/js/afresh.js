// A page that follows others' work is read afresh when they moved on; but not while its own person is on the way to the
// next page: that would lose the press, or the words that come back with its answer.

let isLeaving = false;

document.addEventListener("submit", (event) => {
  if (!event.defaultPrevented) isLeaving = true;
});
document.addEventListener("click", (event) => {
  const link = event.target.closest?.("a[href]:not([download], [target])");
  if (link && !event.defaultPrevented) isLeaving = true;
});
window.addEventListener("pageshow", () => {
  isLeaving = false;
});

export const readAfresh = () => {
  if (!isLeaving) window.location.reload();
};

export const isOnTheWay = () => isLeaving;
