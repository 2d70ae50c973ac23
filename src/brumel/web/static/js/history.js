// The demo's first minute: how far its history has come; what was typed meanwhile stays.
const LOOK_MS = 1000;
const place = document.querySelector("[data-history]");
const bar = place.querySelector("progress");
const words = place.querySelector("[data-words]");

const look = async () => {
  try {
    const answer = await fetch(place.dataset.history, { headers: { Accept: "application/json" } });
    const { n, of } = await answer.json();
    if (!of) {
      place.textContent = "Its history is whole; sign in.";
      place.setAttribute("role", "status");
      return;
    }
    bar.value = n - 1;
    words.textContent = `Its history is being made, week ${n} of ${of}.`;
  } catch {
    // The server is just being started; the next look tells.
  }
  setTimeout(look, LOOK_MS);
};
setTimeout(look, LOOK_MS);
