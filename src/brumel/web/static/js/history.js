// The demo's first minute: how far its history has come. Whoever signs in meanwhile is let in as soon as it is whole.
const LOOK_MS = 1000;
const place = document.querySelector("[data-history]");
const form = document.querySelector("main form");
const bar = place.querySelector("progress");
const words = place.querySelector("[data-words]");
let isWaiting = false;

const wait = (event) => {
  event.preventDefault();
  event.stopPropagation();
  isWaiting = true;
};
form.addEventListener("submit", wait);

const look = async () => {
  try {
    const answer = await fetch(place.dataset.history, { headers: { Accept: "application/json" } });
    const { n, of } = await answer.json();
    if (!of) {
      form.removeEventListener("submit", wait);
      place.textContent = "The demo's history is whole; sign in.";
      place.setAttribute("role", "status");
      if (isWaiting) form.requestSubmit();
      return;
    }
    bar.value = n - 1;
    words.textContent = `The demo's history is being made, week ${n} of ${of}.${isWaiting ? " You are signed in as soon as it is whole." : ""}`;
  } catch {
    // The server is just being started; the next look tells.
  }
  setTimeout(look, LOOK_MS);
};
setTimeout(look, LOOK_MS);
